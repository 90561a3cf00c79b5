"""Following the changes of one table in another: a trigger writes them into a log, batches of the log are brought over.

The log holds keys only: those that find the row, and the partition key, so that every look-up prunes. A batch is one
transaction in one snapshot (REPEATABLE READ): what the entries name is deleted from the target, and what the source has
of it in this snapshot is inserted. So a batch may be done twice, in any order and over any state of the target: once an
entry is consumed, the target has the row as it was in that snapshot, and whatever changed it later has an entry of its
own. Entries become visible out of the order of their numbers; those that are visible are consumed, and `floor` only
saves looking at the places of those that are gone.
"""

from collections.abc import Iterator
from dataclasses import dataclass

from slabrow.core.table.shape import Column
from slabrow.core.upkeep.statements import Statement
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.quoting import identifier, literal

BATCH = 2_000  # entries: measured, larger ones bring nothing
UPTO = "slabrow.upto"

# The plans of small batches on tables that are large, or not analysed yet: by index, row for row, one leaf each.
_BY_INDEX = (
    "SET LOCAL enable_hashjoin = off",
    "SET LOCAL enable_mergejoin = off",
    "SET LOCAL enable_seqscan = off",
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Following:
    """The log of one direction.

    name        of the log and of its function: `log_7`, or `back_7`
    trigger     the name of the trigger
    source      the table whose changes are recorded; source_leaves: its leaves, or itself
    target      the table that they are brought over to
    logged      the columns of an entry, those that find the row first
    followed    how many of them find the row
    columns     those that are copied
    overrides   whether an identity column that is GENERATED ALWAYS is among them
    parts       where the rows lie in several tables, or in partitions: these tables, each with triggers of its own
    read        the columns that are read of such tables: their order may differ
    empties     whether a TRUNCATE of the source is brought over; else the copy begins again after it
    """

    schema: str
    job: int
    name: str
    trigger: str
    source: Name
    source_leaves: tuple[Name, ...]
    is_partitioned: bool
    target: Name
    logged: tuple[Column, ...]
    followed: int
    columns: tuple[str, ...]
    overrides: bool
    parts: tuple[Name, ...] = ()
    read: tuple[str, ...] = ()
    empties: bool = False

    @property
    def log(self) -> str:
        """The log as SQL."""
        return f"{identifier(self.schema)}.{identifier(self.name)}"

    @property
    def record(self) -> str:
        """The table of the work's records as SQL."""
        return f"{identifier(self.schema)}.reshaping"

    @property
    def from_source(self) -> str:
        """The source in a FROM clause."""
        if self.parts:
            read = quoting.columns(self.read)
            each = (f"SELECT {read} FROM ONLY {quoting.table(part)}" for part in self.parts)
            return f"({' UNION ALL '.join(each)})"
        return ("" if self.is_partitioned else "ONLY ") + quoting.table(self.source)

    def _places(self, which: str) -> list[str]:
        return [f"{which}_{number}" for number in range(1, len(self.logged) + 1)]

    # Recording

    def creation(self) -> Iterator[Statement]:
        """The log and the function that writes it. Nothing calls it yet."""
        columns = [
            f"{which}_{number} {column.type_name}" + (f" COLLATE {column.collation}" if column.collation else "")
            for which in ("old", "new")
            for number, column in enumerate(self.logged, 1)
        ]
        yield Statement(
            f"CREATE TABLE {self.log} (seq bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, {', '.join(columns)})"
        )
        found_by = ", ".join(self._places("new")[: self.followed])
        yield Statement(f"CREATE INDEX ON {self.log} ({found_by})")
        # It shrinks to nothing again and again; cleaned often, it stays small.
        yield Statement(
            f"ALTER TABLE {self.log} SET (autovacuum_vacuum_scale_factor = 0.0, autovacuum_vacuum_threshold = 10000, "
            "vacuum_truncate = off)"
        )
        yield Statement(self._function())

    def _function(self) -> str:
        old, new = (", ".join(self._places(which)) for which in ("old", "new"))
        old_values, new_values = (
            ", ".join(f"{row}.{identifier(column.name)}" for column in self.logged) for row in ("OLD", "NEW")
        )
        body = f"""
BEGIN
  IF TG_OP = 'INSERT' THEN
    INSERT INTO {self.log} ({new}) VALUES ({new_values});
  ELSIF TG_OP = 'UPDATE' THEN
    INSERT INTO {self.log} ({old}, {new}) VALUES ({old_values}, {new_values});
  ELSIF TG_OP = 'DELETE' THEN
    INSERT INTO {self.log} ({old}) VALUES ({old_values});
  ELSE
    INSERT INTO {self.log} DEFAULT VALUES;
  END IF;
  RETURN NULL;
END
"""
        tag = dollar_tag(body)
        # SECURITY DEFINER: who writes to the table needs no right on the log.
        return (
            f"CREATE FUNCTION {self.log}() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER "
            f"SET search_path = pg_catalog, pg_temp AS {tag}{body}{tag}"
        )

    def recording(self) -> Iterator[Statement]:
        """The triggers. ALWAYS: writers with session_replication_role = replica are recorded too."""
        yield from self._recording_rows()
        yield from self._recording_truncate()

    def _recording_rows(self) -> Iterator[Statement]:
        """A row trigger on a partitioned table reaches its leaves, whatever way a row comes."""
        for name in self._rooted:
            table = quoting.table(name)
            yield Statement(
                f"CREATE TRIGGER {identifier(self.trigger)} AFTER INSERT OR UPDATE OR DELETE ON {table} "
                f"FOR EACH ROW EXECUTE FUNCTION {self.log}()"
            )
            yield Statement(f"ALTER TABLE {table} ENABLE ALWAYS TRIGGER {identifier(self.trigger)}")

    def _recording_truncate(self) -> Iterator[Statement]:
        """A trigger for TRUNCATE on a partitioned table does not reach its leaves: each has its own."""
        emptied = identifier(self.trigger + "_truncate")
        for name in self._all_tables():
            each = quoting.table(name)
            yield Statement(
                f"CREATE TRIGGER {emptied} AFTER TRUNCATE ON {each} FOR EACH STATEMENT EXECUTE FUNCTION {self.log}()"
            )
            # Not of the parent alone: on its leaves a trigger of that name may not be there yet.
            only = "ONLY " if self.is_partitioned and name == self.source else ""
            yield Statement(f"ALTER TABLE {only}{each} ENABLE ALWAYS TRIGGER {emptied}")

    @property
    def _rooted(self) -> tuple[Name, ...]:
        """The tables with a row trigger of their own."""
        return self.parts or (self.source,)

    def _all_tables(self) -> tuple[Name, ...]:
        if self.parts:
            return self.parts
        return (self.source, *self.source_leaves) if self.is_partitioned else (self.source,)

    def silencing(self) -> Iterator[Statement]:
        """The trigger is switched off: that does not wait for readers, where dropping them would."""
        for name in self._rooted:
            yield Statement(f"ALTER TABLE {quoting.table(name)} DISABLE TRIGGER {identifier(self.trigger)}")

    def speaking(self) -> Iterator[Statement]:
        """It is switched on again. ALWAYS, as when it was made."""
        for name in self._rooted:
            yield Statement(f"ALTER TABLE {quoting.table(name)} ENABLE ALWAYS TRIGGER {identifier(self.trigger)}")

    def removing(self) -> Iterator[Statement]:
        """The triggers are taken away: within a lock that keeps everybody out."""
        for name in self._all_tables():
            yield Statement(f"DROP TRIGGER IF EXISTS {identifier(self.trigger + '_truncate')} ON {quoting.table(name)}")
        for name in self._rooted:
            yield Statement(f"DROP TRIGGER IF EXISTS {identifier(self.trigger)} ON {quoting.table(name)}")

    def dropping(self) -> Iterator[Statement]:
        """The log and the function, when nothing calls it any more."""
        yield Statement(f"DROP FUNCTION IF EXISTS {self.log}()")
        yield Statement(f"DROP TABLE IF EXISTS {self.log}")

    # Bringing over

    def batch(self, most: int | None = BATCH) -> list[Statement]:
        """One batch, as the statements of a transaction. most: entries; None: all that are visible."""
        return [
            Statement("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ"),
            *self.bringing_over(most),
            *self.consuming(),
        ]

    def bringing_over(self, most: int | None) -> list[Statement]:
        """A batch without the removal of its entries: so that they can still be compared."""
        some = "" if most is None else f" ORDER BY seq LIMIT {most:d}"
        overriding = " OVERRIDING SYSTEM VALUE" if self.overrides else ""
        columns = quoting.columns(self.columns)
        values = ", ".join(f"s.{identifier(column)}" for column in self.columns)
        target = quoting.table(self.target)
        return [
            *map(Statement, _BY_INDEX),
            Statement(
                f"SELECT set_config('{UPTO}', coalesce(max(seq), 0)::text, true) "
                f"FROM (SELECT seq FROM {self.log} WHERE seq > {self._floor}{some}) b"
            ),
            *self._emptied(),
            Statement(f"DELETE FROM {target} t USING ({self.named()}) k WHERE {self._same('t', 'k')}"),
            Statement(
                f"INSERT INTO {target} ({columns}){overriding} SELECT {values} "
                f"FROM ({self.named()}) k JOIN {self.from_source} s ON {self._same('s', 'k')}"
            ),
        ]

    def _emptied(self) -> Iterator[Statement]:
        """After a TRUNCATE of the source, or of a leaf of it, what it no longer has leaves the target too."""
        if not self.empties:
            return
        tests = self._same("t", "s", by_name=True)
        yield Statement(
            f"DELETE FROM {quoting.table(self.target)} t WHERE EXISTS (SELECT FROM {self.log} WHERE {self._in_batch} "
            f"AND old_1 IS NULL AND new_1 IS NULL) AND NOT EXISTS (SELECT FROM {self.from_source} s WHERE {tests})"
        )

    def consuming(self) -> list[Statement]:
        """The entries of the batch leave the log."""
        return [Statement(f"DELETE FROM {self.log} WHERE {self._in_batch}")]

    @property
    def _floor(self) -> str:
        return f"(SELECT floor FROM {self.record} WHERE job = {self.job:d})"

    @property
    def _in_batch(self) -> str:
        return f"seq > {self._floor} AND seq <= current_setting('{UPTO}')::bigint"

    def named(self) -> str:
        """A query of the keys that the entries of the batch name: places k_1, k_2, …"""
        names = ", ".join(f"{{0}}_{number} AS k_{number}" for number in range(1, len(self.logged) + 1))
        one = f"SELECT {names} FROM {self.log} WHERE {self._in_batch} AND {{0}}_1 IS NOT NULL"
        return f"{one.format('old')} UNION {one.format('new')}"

    def _same(self, rows: str, keys: str, *, by_name: bool = False) -> str:
        """The condition that a row has a key. by_name: `keys` is a table with the columns, not a query of places."""
        tests = []
        for number, column in enumerate(self.logged, 1):
            equal = "=" if column.not_null or number <= self.followed else "IS NOT DISTINCT FROM"
            name = identifier(column.name)
            tests.append(f"{rows}.{name} {equal} {keys}.{name if by_name else f'k_{number}'}")
        return " AND ".join(tests)

    def same_rows(self, what: str) -> str:
        """A check that the target has of the batch's keys just what the source has."""
        # As text: not every type can be compared.
        row = "ROW(" + ", ".join(f"r.{identifier(column)}" for column in self.columns) + ")::text"
        sides = [
            f"SELECT {row} FROM ({self.named()}) k JOIN {table} r ON {self._same('r', 'k')}"
            for table in (self.from_source, quoting.table(self.target))
        ]
        return (
            f"SELECT {literal(what)} AS what, 0 AS before, n AS after, n <> 0 AS differs FROM (SELECT "
            f"count(*) AS n FROM (({sides[0]} EXCEPT ALL {sides[1]}) UNION ALL ({sides[1]} EXCEPT ALL {sides[0]})) d) c"
        )

    def raising_floor(self) -> list[Statement]:
        """Below the floor no entry is left, and none can come: all who may still write one there have ended.

        The order of the two statements matters: who has drawn a number up to the ceiling had its own transaction
        number by then, which is below the one that is noted with the ceiling.
        """
        return [
            Statement(
                f"SELECT set_config('slabrow.ceiling', last_value::text, true) FROM "
                f"{identifier(self.schema)}.{identifier(self.name + '_seq_seq')}"
            ),
            Statement(
                f"UPDATE {self.record} SET floor = CASE WHEN ceiling_xid <> '0' THEN greatest(floor, least(ceiling, "
                f"coalesce((SELECT min(seq) - 1 FROM {self.log} WHERE seq > floor), ceiling))) ELSE floor END, "
                "ceiling = current_setting('slabrow.ceiling')::bigint, ceiling_xid = pg_current_xact_id() "
                f"WHERE job = {self.job:d} AND pg_snapshot_xmin(pg_current_snapshot()) > ceiling_xid"
            ),
        ]

    @property
    def backlog(self) -> str:
        """A query of how many entries wait."""
        return f"SELECT count(*) FROM {self.log} WHERE seq > {self._floor}"

    @property
    def has_marker(self) -> str:
        """Whether the source was emptied by TRUNCATE since: an entry without any key."""
        return f"EXISTS (SELECT FROM {self.log} WHERE old_1 IS NULL AND new_1 IS NULL)"


def dollar_tag(body: str) -> str:
    """A dollar quote that the text does not hold."""
    tag = "$slabrow$"
    while tag in body:
        tag = tag[:-1] + "_$"
    return tag
