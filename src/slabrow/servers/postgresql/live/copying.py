"""Copies the rows of tables that are in use into another table, piece by piece.

A piece is a range of blocks, and a transaction of its own: done or not. No lock is stronger than a reader's.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from slabrow.core.upkeep.statements import Part, Statement, Transaction
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.following import Following, dollar_tag
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.write.script import BEGIN_ANEW

SMALLEST_PIECE = 16  # blocks


@dataclass(frozen=True, slots=True, kw_only=True)
class PieceCopy:
    """The copy of one job.

    following   the log in which changes are recorded meanwhile
    incoming    the table that the rows get into
    tables      a query of (relid,) of the tables that hold the rows
    may_grow    whether others may come to them meanwhile
    followed    the columns by which a row is found again; copied: those that are copied
    piece_blocks   how many blocks a piece has at most
    """

    schema: str
    job: int
    following: Following
    incoming: Name
    tables: str
    may_grow: bool
    followed: tuple[str, ...]
    copied: tuple[str, ...]
    piece_blocks: int

    def dividing(self, jobs: int, emptied: Part | None = None, listed: Sequence[Part] | None = None) -> Transaction:
        """Lists the pieces. When the table was emptied or rewritten since, what is copied is thrown away first.

        emptied   what throws it away, where that is not a TRUNCATE here
        listed    what fills `reshaping_source` and `reshaping_piece`, where the pieces are not ranges of blocks
        """
        job, schema = self.job, identifier(self.schema)
        return Transaction(
            "divide the copy into pieces",
            (
                emptied or Statement(f"TRUNCATE {quoting.table(self.incoming)}"),
                Statement(f"DELETE FROM {self.following.log} WHERE old_1 IS NULL AND new_1 IS NULL"),
                Statement(f"DELETE FROM {schema}.reshaping_piece WHERE job = {job}"),
                Statement(f"DELETE FROM {schema}.reshaping_source WHERE job = {job}"),
                *(self._block_ranges(jobs) if listed is None else listed),
                Statement(
                    f"UPDATE {schema}.reshaping SET is_listed = true, compared = NULL, open_transactions = NULL, "
                    f"rows_total = (SELECT sum(greatest(c.reltuples, 0)) FROM {schema}.reshaping_source s "
                    f"JOIN pg_class c ON c.oid = s.relation WHERE s.job = {job}) WHERE job = {job}"
                ),
            ),
        )

    def _block_ranges(self, jobs: int) -> tuple[Statement, ...]:
        job, schema = self.job, identifier(self.schema)
        blocks = f"greatest({SMALLEST_PIECE}, least({self.piece_blocks}, total / {jobs * 4}))::bigint"
        return (
            Statement(
                f"INSERT INTO {schema}.reshaping_source (job, relation, filenode, blocks) "
                f"SELECT {job}, relid, pg_relation_filenode(relid), "
                f"pg_relation_size(relid) / current_setting('block_size')::int FROM ({self.tables}) t"
            ),
            Statement(
                f"""INSERT INTO {schema}.reshaping_piece (job, piece, relation, low, high)
SELECT {job}, row_number() OVER (ORDER BY relation, low), relation, low, low + a_piece
FROM (SELECT relation, blocks, {blocks} AS a_piece
      FROM {schema}.reshaping_source, (SELECT sum(blocks) AS total FROM {schema}.reshaping_source WHERE job = {job}) t
      WHERE job = {job} AND blocks > 0) s, generate_series(0, blocks - 1, a_piece) low"""
            ),
        )

    @property
    def added_leaves(self) -> str:
        """The query of leaves that have come since: their rows may never have been recorded."""
        noted = f"{identifier(self.schema)}.reshaping_source"
        return f"{self.tables} EXCEPT SELECT relation FROM {noted} WHERE job = {self.job}"

    @property
    def is_divided(self) -> str:
        """Whether the pieces are listed, and the table has not been emptied or rewritten since."""
        job, schema = self.job, identifier(self.schema)
        same = f"NOT EXISTS ({self.added_leaves})" if self.may_grow else "true"
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
        columns, incoming = _in_format(quoting.columns(self.copied)), _in_format(quoting.table(self.incoming))
        overriding = " OVERRIDING SYSTEM VALUE" if self.following.overrides else ""
        job, schema = self.job, identifier(self.schema)
        insert = (
            f"INSERT INTO {incoming} ({columns}){overriding} SELECT {columns} FROM ONLY %s s "
            "WHERE ctid >= %L AND ctid < %L AND age(s.xmin)"
        )
        unknown = " AND ".join(
            f"l.new_{number} = s.{_in_format(identifier(name))}" for number, name in enumerate(self.followed, 1)
        )
        log = _in_format(self.following.log)
        # age() counts from one number throughout a transaction (GetStableLatestTransactionId): the block works out the
        # age of the horizon once, and not for each row.
        body = f"""
DECLARE
  p record;
  place text;
  horizon_age int;
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
  SELECT age(r.horizon) INTO horizon_age FROM {schema}.reshaping r WHERE r.job = {job};
  EXECUTE format({literal(insert + " > %s")}, place, format('(%s,0)', p.low), format('(%s,0)', p.high), horizon_age);
  GET DIAGNOSTICS before = ROW_COUNT;
  EXECUTE format({literal(insert + f" <= %s AND NOT EXISTS (SELECT FROM {log} l WHERE {unknown})")},
    place, format('(%s,0)', p.low), format('(%s,0)', p.high), horizon_age);
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
            f"SELECT is_listed AND NOT EXISTS (SELECT FROM {identifier(self.schema)}.reshaping_piece "
            f"WHERE job = {self.job} AND NOT is_done) FROM {identifier(self.schema)}.reshaping "
            f"WHERE job = {self.job}"
        )


def _in_format(text: str) -> str:
    """As a part of a text that format() of the server reads."""
    return text.replace("%", "%%")
