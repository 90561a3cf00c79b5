"""Which statements may be run: those that can only read, or whose changes a rollback brings back."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

from sqlglot import exp

from slabrow.core.pruning.by_constants.constants import VOLATILE
from slabrow.core.sql.backquoted import lexemes
from slabrow.core.sql.dialect import BACKQUOTED, speaking
from slabrow.core.sql.mentions import tables_in
from slabrow.core.sql.parsed import parse
from slabrow.core.sql.pieces import Piece
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection

# The server's own functions that do more than work out a value (MariaDB manual, Miscellaneous Functions).
_BARRED = frozenset(
    ("get_lock", "release_lock", "release_all_locks", "sleep", "benchmark", "load_file", "master_pos_wait",
     "master_gtid_wait", "nextval", "lastval", "setval", "last_insert_id", "sys_exec", "sys_eval", "uuid_short")
)  # fmt: skip
_WORDS = frozenset(("into", "outfile", "dumpfile", "procedure"))
_LOCKING = (("for", "update"), ("lock", "in"))


@dataclass(frozen=True, slots=True)
class MariaFence:
    """`asking.Fence`, on one connection."""

    connection: Connection

    def why_not(self, sql: str, plan: str, *, changes: bool) -> str | None:
        """As `Fence.why_not`."""
        words = [each for each in lexemes(sql) if each.piece not in (Piece.BLANK, Piece.COMMENT)]
        if any(each.piece is Piece.COMMENT and each.text.startswith(("/*!", "/*M!")) for each in lexemes(sql)):
            return "it has code in a comment"
        values = [each.value.lower() if each.piece is Piece.WORD else "" for each in words]
        if not changes and (bad := next((word for word in values if word in _WORDS), None)) is not None:
            return f"it has {bad.upper()}"
        for one, other in pairwise(values):
            if (one, other) in _LOCKING and not changes:
                return "it locks rows"
        if any(each.text == ":=" for each in words) or ":=" in sql:
            return "it sets a variable"
        called = {
            one.value.lower()
            for one, other in pairwise(words)
            if other.text == "(" and one.piece in (Piece.WORD, Piece.NAME)
        }
        if found := called & _BARRED:
            return f"it calls {sorted(found)[0]}()"
        if stored := self._stored(called):
            return f"it calls {stored}(), which may do anything"
        if changes and (why := self._change_that_stays(sql)) is not None:
            return why
        return None

    def _stored(self, called: set[str]) -> str | None:
        """A function among these that somebody has made."""
        if not called:
            return None
        row = self.connection.row(
            "SELECT routine_name FROM information_schema.routines WHERE routine_type = 'FUNCTION' AND "
            "lower(routine_name) IN %s LIMIT 1",
            (tuple(sorted(called)),),
        )
        return None if row is None else str(row[0])

    def _change_that_stays(self, sql: str) -> str | None:
        """A table among those named that does not roll back, or has triggers."""
        with speaking(BACKQUOTED):
            names = tables_in(sql)
        if names is None:
            return "its SQL is not understood here"
        for name in sorted(names, key=str):
            full = Name(name.schema or self.connection.database, name.table)
            row = self.connection.row(
                "SELECT engine, (SELECT trigger_name FROM information_schema.triggers t "
                "WHERE t.event_object_schema = table_schema AND t.event_object_table = table_name LIMIT 1) "
                "FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
                (full.schema, full.table),
            )
            if row is not None and row[0] is not None and str(row[0]).lower() != "innodb":
                return f"{name} is of the engine {row[0]}, which cannot roll back"
            if row is not None and row[1] is not None:
                return f"the trigger {row[1]} of {name} may do anything"
        return None

    def may_evaluate(self, sql: str) -> bool:
        """As `Fence.may_evaluate`."""
        with speaking(BACKQUOTED):
            parsed = parse(f"SELECT {sql}")
        if not isinstance(parsed, exp.Select) or parsed.find(exp.Table) or len(parsed.expressions) != 1:
            return False
        if any(word in sql.upper() for word in VOLATILE):
            return False
        return self.why_not(f"SELECT {sql}", "", changes=False) is None
