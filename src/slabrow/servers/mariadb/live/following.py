"""The log of changed keys, the triggers that fill it, and how changes are brought over to another table.

A change is logged by its unique key alone, twice for an UPDATE: as it was and as it is. Bringing over takes the rows of
these keys away from the other table and puts them there as they are now: so it does not matter how often, or in which
order, a key was changed. Keys are written as literals: by a join the server would look into every partition for each.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from slabrow.core.sql.backquoted_definition import outer_words
from slabrow.core.table.shape import Column
from slabrow.core.upkeep.statements import Statement
from slabrow.core.values.key_values import Kind
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.quoting import identifier, literal

BATCH = 1_000
_EVENTS = (("i", "INSERT", ("NEW",)), ("u", "UPDATE", ("OLD", "NEW")), ("d", "DELETE", ("OLD",)))
_BINARY = ("binary", "varbinary", "bit")
_BEHIND_TYPE = frozenset(
    ("not", "null", "default", "auto_increment", "comment", "on", "check", "generated", "invisible")
)


@dataclass(frozen=True, slots=True)
class Following:
    """From one table to another.

    log      the name of the log, in the ledger's database
    key      the columns of the unique key by which a row is found
    columns  those that are copied: all but generated ones
    """

    log: Name
    job: int
    source: Name
    target: Name
    key: Sequence[Column]
    columns: Sequence[str]

    @property
    def _log(self) -> str:
        return quoting.table(self.log)

    @property
    def _key(self) -> str:
        return ", ".join(identifier(each.name) for each in self.key)

    def making(self) -> str:
        """The log."""
        # The types are those of the table, without what else a column of it has.
        columns = ", ".join(f"{identifier(each.name)} {bare_definition(each)} NOT NULL" for each in self.key)
        return (
            f"CREATE TABLE IF NOT EXISTS {self._log} (slabrow_seq bigint NOT NULL AUTO_INCREMENT PRIMARY KEY, "
            f"{columns}, KEY ({self._key})) ENGINE=InnoDB"
        )

    def dropping(self) -> str:
        """The log goes."""
        return f"DROP TABLE IF EXISTS {self._log}"

    def trigger(self, event: str) -> Name:
        """The name of a trigger; it lies in the database of its table."""
        return Name(self.source.schema, f"{self.log.table}_{event}")

    def recording(self) -> list[str]:
        """The triggers on the source."""
        made = []
        for event, word, rows in _EVENTS:
            values = ", ".join(
                "(" + ", ".join(f"{row}.{identifier(each.name)}" for each in self.key) + ")" for row in rows
            )
            made.append(
                f"CREATE TRIGGER IF NOT EXISTS {quoting.table(self.trigger(event))} AFTER {word} "
                f"ON {quoting.table(self.source)} FOR EACH ROW INSERT INTO {self._log} ({self._key}) VALUES {values}"
            )
        return made

    def unhooking(self) -> list[str]:
        """The triggers go."""
        return [f"DROP TRIGGER IF EXISTS {quoting.table(self.trigger(event))}" for event, _, _ in _EVENTS]

    @property
    def _marks(self) -> str:
        return f"{identifier(self.log.schema or '')}.reshaping_mark"

    @property
    def _conflict(self) -> str:
        return f"conflict {self.log.table}"

    @property
    def conflicts(self) -> str:
        """How many rows both tables have, as a query that counts them only if a row ever gave way to another."""
        # Each table stands once: behind LOCK TABLES it could not be used again.
        met = f"EXISTS (SELECT 1 FROM {self._marks} WHERE job = {self.job:d} AND what = {literal(self._conflict)})"
        source, target = (f"(SELECT count(*) FROM {quoting.table(each)})" for each in (self.source, self.target))
        return (
            "SELECT 'rows', source_rows, target_rows, source_rows <> target_rows FROM (SELECT "
            f"IF(met, {source}, 0) AS source_rows, IF(met, {target}, 0) AS target_rows FROM (SELECT {met} AS met) m) n"
        )

    @property
    def is_recording(self) -> str:
        """Whether all triggers are there, as a query."""
        names = ", ".join(literal(self.trigger(event).table) for event, _, _ in _EVENTS)
        return (
            "SELECT count(*) = 3 FROM information_schema.triggers WHERE trigger_schema = "
            f"{literal(self.source.schema or '')} AND trigger_name IN ({names}) AND event_object_table = "
            f"{literal(self.source.table)}"
        )

    @property
    def backlog(self) -> str:
        """How many changes wait, as a query."""
        return f"SELECT count(*) FROM {self._log}"

    def batch(self, most: int = BATCH) -> list[Statement]:
        """Brings changes over; to be run in one transaction. Each table stands once and without another name in each
        statement, so that the same statements work behind LOCK TABLES.
        """
        columns = ", ".join(map(identifier, self.columns))
        spelled = ", ',', ".join(_spelled(each) for each in self.key)
        found = f"WHERE ({self._key}) IN ("
        target, source = quoting.table(self.target), quoting.table(self.source)
        counted = f"SELECT count(*) INTO @slabrow_rows FROM {target} {found}"
        put = f"REPLACE INTO {target} ({columns}) SELECT {columns} FROM {source} {found}"
        made = [
            "SET SESSION group_concat_max_len = 1073741824",
            "SET @slabrow_keys = NULL, @slabrow_seqs = NULL, @slabrow_rows = 0",
            f"SELECT group_concat(DISTINCT '(', {spelled}, ')'), group_concat(slabrow_seq) "
            "INTO @slabrow_keys, @slabrow_seqs "
            f"FROM (SELECT slabrow_seq, {self._key} FROM {self._log} ORDER BY slabrow_seq LIMIT {most:d}) changed",
            _at_once(f"DELETE FROM {target} {found}", "@slabrow_keys"),
            _at_once(put, "@slabrow_keys"),
            "SET @slabrow_put = row_count()",
            _at_once(counted, "@slabrow_keys"),  # in the target, where nobody else writes
            # More than that: a row went because another has its unique key now. Most often it only comes later in the
            # log; `conflicts` makes sure before names are exchanged.
            f"INSERT IGNORE INTO {self._marks} (job, what) SELECT {self.job:d}, {literal(self._conflict)} FROM DUAL "
            "WHERE @slabrow_keys IS NOT NULL AND @slabrow_put > @slabrow_rows",
            _at_once(f"DELETE FROM {self._log} WHERE slabrow_seq IN (", "@slabrow_seqs"),
        ]
        return [Statement(sql) for sql in made]


def _at_once(before: str, variable: str) -> str:
    """A statement with the list that a variable holds; nothing when it holds none."""
    return f"EXECUTE IMMEDIATE IF({variable} IS NULL, 'DO 0', concat({literal(before)}, {variable}, ')'))"


def _spelled(column: Column) -> str:
    """A key column's value as a literal, worked out by the server. The columns of the log cannot be NULL."""
    name = identifier(column.name)
    if column.type_name.split("(")[0].split(" ")[0] in _BINARY:
        return f"'x''', hex({name}), ''''"
    return name if column.kind in (Kind.INTEGER, Kind.NUMERIC) else f"quote({name})"


def bare_definition(column: Column) -> str:
    """The type with its character set and collation, without default, comment and AUTO_INCREMENT."""
    words = outer_words(column.definition)
    end = next((each.start for each in words if each.value in _BEHIND_TYPE), None)
    return column.definition[:end].strip()
