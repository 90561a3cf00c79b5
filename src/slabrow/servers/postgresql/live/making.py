"""Makes the table that is to take the place of another, and gives it its keys when the rows are there.

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
from slabrow.servers.postgresql.live.cleaning import cleaning_off, cleaning_on
from slabrow.servers.postgresql.live.copying import PieceCopy
from slabrow.servers.postgresql.live.following import Following, dollar_tag
from slabrow.servers.postgresql.live.names import INCOMING, incoming_name, passing
from slabrow.servers.postgresql.quoting import literal
from slabrow.servers.postgresql.reshapings import is_marked, marked
from slabrow.servers.postgresql.write import ddl

_ANALYSES_ALONE = 18  # from this version on ANALYZE ONLY leaves the partitions out


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
            leaves = [self.incoming.sibling(leaf.name) for top in some for leaf in top.leaves]
            made = (
                *ddl.create_partitions(self.incoming, some, self.plan.shape, layout),
                *cleaning_off(leaves, self.plan.shape.options),
            )
            what = f"partitions {first + 1} to {first + len(some)}"
            purpose = f"make {what} of {len(planned)}"
            pieces.append(Piece(Transaction(purpose, (*made, self._mark(what))), self._is_marked(what)))
        return tuple(pieces)

    def cleaned(self) -> tuple[Piece, ...]:
        """Allows the server to clean the partitions again, in transactions of a bounded size."""
        pieces: list[Piece] = []
        for first in range(0, len(self.leaves), ddl.PARTITIONS_A_TRANSACTION):
            some = self.leaves[first : first + ddl.PARTITIONS_A_TRANSACTION]
            what = f"cleaning {first + 1} to {first + len(some)}"
            made = (*cleaning_on(some, self.plan.shape.options), self._mark(what))
            pieces.append(Piece(Transaction(f"allow cleaning of {len(some)} partitions", made), self._is_marked(what)))
        return tuple(pieces)

    @property
    def copying(self) -> PieceCopy:
        """How the rows get there."""
        plan = self.plan
        name = literal(str(plan.shape.name))
        return PieceCopy(
            schema=plan.schema,
            job=plan.job,
            following=self.following,
            incoming=self.incoming,
            tables=f"SELECT relid FROM pg_partition_tree({name}) WHERE isleaf"
            if plan.is_partitioned
            else f"SELECT oid AS relid FROM pg_class WHERE oid = {name}::regclass",
            may_grow=plan.is_partitioned,
            followed=plan.followed,
            copied=plan.copied,
            piece_blocks=plan.piece_blocks,
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
