"""Makes the table that is to take the place of another, copies the rows into it piece by piece, and gives it its keys.

Nothing of this is seen by anybody else, and no lock on the table in use is stronger than a reader's.
"""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from slabrow.core.table.shape import Shape
from slabrow.core.upkeep.live_plan import LivePlan
from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.upkeep.steps import Piece
from slabrow.core.values.names import NAME_LIMIT, Name, fit
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.following import Following, dollar_tag
from slabrow.servers.postgresql.live.names import INCOMING, incoming_name, passing
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.reshapings import is_marked, marked
from slabrow.servers.postgresql.write import ddl
from slabrow.servers.postgresql.write.script import BEGIN_ANEW

_ANALYSES_ALONE = 18  # from this version on ANALYZE ONLY leaves the partitions out
SMALLEST_PIECE = 16  # blocks


@dataclass(frozen=True, slots=True)
class Making:
    """Writes the statements of one plan up to the moment when the new table is complete."""

    plan: LivePlan
    following: Following

    @property
    def incoming(self) -> Name:
        """The new table, under its passing name."""
        return incoming_name(self.plan.shape.name)

    @property
    def leaves(self) -> tuple[Name, ...]:
        """The leaves of the new table."""
        return tuple(self.incoming.sibling(leaf.name) for top in self.plan.planned for leaf in top.leaves)

    @property
    def keys(self) -> ddl.NewKeys:
        """The keys and indexes of the new table."""
        return ddl.NewKeys(self.plan.shape, self.plan.layout, INCOMING)

    def _mark(self, what: str) -> Statement:
        return Statement(marked(self.plan.schema, self.plan.job, what))

    def _is_marked(self, what: str) -> str:
        return is_marked(self.plan.schema, self.plan.job, what)

    # The new table

    def _shape(self) -> Shape:
        """With names for identity sequences that are known beforehand."""
        identity = {each.column: each.name for each in self.plan.shape.sequences if each.is_identity}
        columns = tuple(
            replace(
                column,
                identity_options=f"SEQUENCE NAME {quoting.table(passing(identity[column.name]))} "
                + column.identity_options,
            )
            if column.name in identity
            else column
            for column in self.plan.shape.columns
        )
        return replace(self.plan.shape, columns=columns)

    def table(self, *, has_log: bool = True) -> Transaction:
        """The new table without partitions, and the log."""
        shape = self._shape()
        return Transaction(
            f"make {self.incoming}" + (" and the log of changes" if has_log else ""),
            (
                Statement(ddl.create_table(shape, self.incoming, self.plan.layout)),
                *ddl.column_settings(shape, self.incoming),
                *(self.following.creation() if has_log else ()),
                self._mark("made"),
            ),
        )

    @property
    def table_is_done(self) -> str:
        """The query whether it is made."""
        return self._is_marked("made")

    def partitions(self) -> tuple[Piece, ...]:
        """The partitions, in transactions of a bounded size."""
        planned, layout = self.plan.planned, replace(self.plan.layout, table=self.incoming)
        inner = max((len(partition.inner) for partition in planned), default=0)
        step = max(1, ddl.PARTITIONS_A_TRANSACTION // (inner + 1))
        pieces: list[Piece] = []
        for first in range(0, len(planned), step):
            some = planned[first : first + step]
            made = tuple(ddl.create_partitions(self.incoming, some, self.plan.shape, layout))
            what = f"partitions {first + 1} to {first + len(some)}"
            purpose = f"make {what} of {len(planned)}"
            pieces.append(Piece(Transaction(purpose, (*made, self._mark(what))), self._is_marked(what)))
        return tuple(pieces)

    # The copy

    def dividing(self, jobs: int) -> Transaction:
        """Lists the pieces. When the table was emptied or rewritten since, what is copied is thrown away first."""
        job, schema = self.plan.job, identifier(self.plan.schema)
        blocks = f"greatest({SMALLEST_PIECE}, least({self.plan.piece_blocks}, total / {jobs * 4}))::bigint"
        return Transaction(
            "divide the copy into pieces",
            (
                Statement(f"TRUNCATE {quoting.table(self.incoming)}"),
                Statement(f"DELETE FROM {self.following.log} WHERE old_1 IS NULL AND new_1 IS NULL"),
                Statement(f"DELETE FROM {schema}.reshaping_piece WHERE job = {job}"),
                Statement(f"DELETE FROM {schema}.reshaping_source WHERE job = {job}"),
                Statement(
                    f"INSERT INTO {schema}.reshaping_source (job, relation, filenode, blocks) "
                    f"SELECT {job}, relid, pg_relation_filenode(relid), "
                    "pg_relation_size(relid) / current_setting('block_size')::int "
                    f"FROM pg_partition_tree({literal(str(self.plan.shape.name))}) WHERE isleaf"
                    if self.plan.is_partitioned
                    else f"INSERT INTO {schema}.reshaping_source (job, relation, filenode, blocks) "
                    f"SELECT {job}, oid, pg_relation_filenode(oid), "
                    "pg_relation_size(oid) / current_setting('block_size')::int "
                    f"FROM pg_class WHERE oid = {literal(str(self.plan.shape.name))}::regclass"
                ),
                Statement(
                    f"""INSERT INTO {schema}.reshaping_piece (job, piece, relation, low, high)
SELECT {job}, row_number() OVER (ORDER BY relation, low), relation, low, low + a_piece
FROM (SELECT relation, blocks, {blocks} AS a_piece
      FROM {schema}.reshaping_source, (SELECT sum(blocks) AS total FROM {schema}.reshaping_source WHERE job = {job}) t
      WHERE job = {job} AND blocks > 0) s, generate_series(0, blocks - 1, a_piece) low"""
                ),
                Statement(
                    f"UPDATE {schema}.reshaping SET is_listed = true, compared = NULL, open_transactions = NULL, "
                    f"rows_total = (SELECT sum(greatest(c.reltuples, 0)) FROM {schema}.reshaping_source s "
                    f"JOIN pg_class c ON c.oid = s.relation WHERE s.job = {job}) WHERE job = {job}"
                ),
            ),
        )

    @property
    def added_leaves(self) -> str:
        """The query of leaves that have come since: their rows may never have been recorded."""
        return (
            f"SELECT relid FROM pg_partition_tree({literal(str(self.plan.shape.name))}) WHERE isleaf EXCEPT "
            f"SELECT relation FROM {identifier(self.plan.schema)}.reshaping_source WHERE job = {self.plan.job}"
        )

    @property
    def is_divided(self) -> str:
        """Whether the pieces are listed, and the table has not been emptied or rewritten since."""
        job, schema = self.plan.job, identifier(self.plan.schema)
        same = f"NOT EXISTS ({self.added_leaves})" if self.plan.is_partitioned else "true"
        return (
            f"SELECT is_listed AND {same} AND NOT {self.following.has_marker} AND NOT EXISTS (SELECT "
            f"FROM {schema}.reshaping_source WHERE job = {job} AND pg_relation_filenode(relation) IS DISTINCT FROM "
            f"filenode) FROM {schema}.reshaping WHERE job = {job}"
        )

    def piece(self) -> Transaction:
        """Copies one piece: of two runs at the same time each takes another one.

        Rows that no transaction wrote which could have been recorded are copied; of the younger ones those without an
        entry. A row that was written since has its entry, visible in the same snapshot, and comes with the changes.
        """
        columns, incoming = _in_format(quoting.columns(self.plan.copied)), _in_format(quoting.table(self.incoming))
        overriding = " OVERRIDING SYSTEM VALUE" if self.following.overrides else ""
        job, schema = self.plan.job, identifier(self.plan.schema)
        insert = (
            f"INSERT INTO {incoming} ({columns}){overriding} SELECT {columns} FROM ONLY %s s "
            "WHERE ctid >= %L AND ctid < %L AND age(s.xmin)"
        )
        unknown = " AND ".join(
            f"l.new_{number} = s.{_in_format(identifier(name))}" for number, name in enumerate(self.plan.followed, 1)
        )
        log = _in_format(self.following.log)
        body = f"""
DECLARE
  p record;
  place text;
  horizon xid;
  before bigint;
  copied bigint;
BEGIN
  SELECT * INTO p FROM {schema}.reshaping_piece WHERE job = {job} AND NOT is_done
    ORDER BY piece LIMIT 1 FOR UPDATE SKIP LOCKED;
  IF NOT FOUND THEN
    RETURN;
  END IF;
  SELECT format('%I.%I', n.nspname, c.relname) INTO place
    FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = p.relation;
  IF place IS NULL THEN
    RAISE EXCEPTION 'a table that held rows is gone' USING ERRCODE = '{BEGIN_ANEW}';
  END IF;
  EXECUTE format('LOCK TABLE ONLY %s IN ACCESS SHARE MODE', place);
  IF pg_relation_filenode(p.relation) IS DISTINCT FROM
     (SELECT filenode FROM {schema}.reshaping_source WHERE job = {job} AND relation = p.relation) THEN
    RAISE EXCEPTION '% was emptied or rewritten', place USING ERRCODE = '{BEGIN_ANEW}';
  END IF;
  SELECT r.horizon INTO horizon FROM {schema}.reshaping r WHERE r.job = {job};
  EXECUTE format({literal(insert + " > age(%L::xid)")}, place, format('(%s,0)', p.low), format('(%s,0)', p.high),
  horizon); GET DIAGNOSTICS before = ROW_COUNT;
  EXECUTE format({literal(insert + f" <= age(%L::xid) AND NOT EXISTS (SELECT FROM {log} l WHERE {unknown})")},
    place, format('(%s,0)', p.low), format('(%s,0)', p.high), horizon);
  GET DIAGNOSTICS copied = ROW_COUNT;
  UPDATE {schema}.reshaping_piece SET is_done = true, row_count = before + copied
    WHERE job = {job} AND piece = p.piece;
END
"""
        tag = dollar_tag(body)
        return Transaction(
            "copy a piece of the rows",
            (Statement("SET LOCAL enable_seqscan = off"), Statement(f"DO {tag}{body}{tag}")),
        )

    @property
    def is_copied(self) -> str:
        """Whether no piece is left."""
        return (
            f"SELECT is_listed AND NOT EXISTS (SELECT FROM {identifier(self.plan.schema)}.reshaping_piece "
            f"WHERE job = {self.plan.job} AND NOT is_done) FROM {identifier(self.plan.schema)}.reshaping "
            f"WHERE job = {self.plan.job}"
        )

    # Keys and what belongs to it

    def leaf_indexes(self) -> tuple[Piece, ...]:
        """Keys, indexes and statistics of each leaf: built when the rows are there, which is faster than row by row."""
        mended = self.keys.mended
        constraints = [each for each in mended.constraints if each.is_key]
        pieces = []
        for name in self.leaves:
            leaf = quoting.table(name)
            made = [f"ALTER TABLE {leaf} ADD {constraint.definition}" for constraint in constraints]
            made += [
                f"CREATE {'UNIQUE ' if index.is_unique else ''}INDEX ON {leaf} {index.definition}"
                for index in mended.indexes
            ]
            made += self._identity_of(leaf)
            if self.plan.version >= _ANALYSES_ALONE:
                made.append(f"ANALYZE {leaf}")
            what = f"keys of {name}"
            # Several leaves are built side by side: each by one process.
            alone = Statement("SET LOCAL max_parallel_maintenance_workers = 0")
            statements = (alone, *map(Statement, made), self._mark(what))
            pieces.append(
                Piece(Transaction(f"build the keys and indexes of {name}", statements), self._is_marked(what))
            )
        return tuple(pieces)

    def _identity_of(self, leaf: str) -> list[str]:
        whole = {"f": "FULL", "n": "NOTHING"}.get(self.plan.belongings.replica_identity)
        return [f"ALTER TABLE {leaf} REPLICA IDENTITY {whole}"] if whole else []

    def completing(self) -> Transaction:
        """The parent's keys and indexes, which take in those of the leaves, and what else the new table needs."""
        shape, plan = self.plan.shape, self.plan
        without_foreign = replace(shape, constraints=tuple(each for each in shape.constraints if each.kind != "f"))
        keys = replace(self.keys, shape=without_foreign)
        made = ddl.names_of(self.incoming, plan.planned)
        tables = 1 + sum(1 for _ in made)
        return Transaction(
            f"complete {self.incoming}",
            (
                *keys.statements(self.incoming, 0.0),
                *self._identity_by_index(),
                *self._statistics(),
                *ddl.owners(shape, self.incoming, plan.planned, plan.role),
                *ddl.grants(shape, self.incoming, plan.planned),
                *ddl.comments(shape, self.incoming),
                self._mark("complete"),
            ),
            locks=tables * (2 + keys.count),
        )

    @property
    def is_complete(self) -> str:
        """Whether it is."""
        return self._is_marked("complete")

    def _identity_by_index(self) -> Iterator[Statement]:
        """A replica identity by an index is set on each leaf: by the leaf's index below the parent's."""
        index = self.plan.belongings.identity_index
        if self.plan.belongings.replica_identity != "i" or index is None:
            return
        parent = literal(str(self.incoming.sibling(fit(index, INCOMING, NAME_LIMIT))))
        body = f"""
DECLARE
  each record;
BEGIN
  FOR each IN SELECT x.indrelid::regclass AS leaf, i.relname AS index
      FROM pg_catalog.pg_partition_tree({parent}) t JOIN pg_catalog.pg_index x ON x.indexrelid = t.relid
      JOIN pg_catalog.pg_class i ON i.oid = t.relid WHERE t.isleaf LOOP
    EXECUTE format('ALTER TABLE %s REPLICA IDENTITY USING INDEX %I', each.leaf, each.index);
  END LOOP;
END
"""
        tag = dollar_tag(body)
        yield Statement(f"DO {tag}{body}{tag}")

    def _statistics(self) -> Iterator[Statement]:
        for each in self.plan.belongings.statistics:
            name = quoting.table(passing(each.name))
            yield Statement(f"CREATE STATISTICS {name} {each.form} FROM {quoting.table(self.incoming)}")
            if each.target is not None:
                yield Statement(f"ALTER STATISTICS {name} SET STATISTICS {each.target}")
            if each.comment is not None:
                yield Statement(f"COMMENT ON STATISTICS {name} IS {literal(each.comment)}")

    def analysing(self) -> Transaction:
        """The statistics of the parent, which the server never makes by itself. Before PostgreSQL 18 its leaves are
        always analysed with it.
        """
        only = "ONLY " if self.plan.version >= _ANALYSES_ALONE else ""
        analyse = Statement(f"ANALYZE {only}{quoting.table(self.incoming)}")
        return Transaction(f"analyse {self.incoming}", (analyse, self._mark("analysed")))

    @property
    def is_analysed(self) -> str:
        """Whether it is."""
        return self._is_marked("analysed")


def _in_format(text: str) -> str:
    """As a part of a text that format() of the server reads."""
    return text.replace("%", "%%")
