"""Which statements may be run: those that can do nothing but read, or change rows that a rollback brings back.

The statements come from files, logs and statistics that others wrote. A transaction holds back what they change in
tables, and READ ONLY holds back most of the rest; it does not hold back a function that ends other sessions, writes a
file, or connects to another database. So a statement is run only when every function that it can reach is one that the
server calls immutable or stable, or one of a short list of harmless volatile ones.

Three spellings are looked at, and a name that any of them holds counts: the statement's own words (LIMIT stands in no
plan), the plan as EXPLAIN VERBOSE writes it (with defaults, policies, inlined functions, the bodies of views), and the
definitions of the views that are named. Names are compared without their schema: a doubtful one keeps a statement from
being run, and never lets it. What has no name in a statement (casts, domains, operators, triggers, checks of tables) is
looked up in the catalogue.
"""

import json
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from slabrow.core.sql.lexing import called_in, names_in, operators_in
from slabrow.servers.postgresql.connection import Connection, reading

FIRST_OF_USERS = 16_384  # object identifiers below are the server's own (PostgreSQL source, access/transam.h)

# Volatile functions of the server's own that change nothing and reach nothing outside their session.
_HARMLESS = frozenset(
    [
        "random",
        "random_normal",
        "gen_random_uuid",
        "uuidv4",
        "uuidv7",
        "clock_timestamp",
        "timeofday",
        "currval",
        "lastval",
        "pg_relation_size",
        "pg_table_size",
        "pg_indexes_size",
        "pg_total_relation_size",
        "pg_database_size",
        "pg_tablespace_size",
        "bernoulli",
        "system",
        "pg_is_in_recovery",
        "pg_current_xact_id_if_assigned",
        "txid_current_if_assigned",
    ]
)
# Volatile functions of extensions that come with the server, written in C.
_HARMLESS_IN_C = frozenset(
    ["uuid_generate_v1", "uuid_generate_v1mc", "uuid_generate_v4", "gen_random_uuid", "gen_random_bytes", "gen_salt"]
)
# They execute a text that they are given, or build one from their arguments, whatever the server calls them.
_EXECUTING = (
    "query_to_xml", "query_to_xmlschema", "query_to_xml_and_xmlschema", "cursor_to_xml", "cursor_to_xmlschema",
    "crosstab", "crosstab2", "crosstab3", "crosstab4", "crosstabn", "connectby", "xpath_table", "ts_stat", "ts_rewrite",
)  # fmt: skip
_READ_INTO = ("internal", "c", "sql", "plpgsql")

_FUNCTIONS = """
    SELECT p.oid::bigint, p.proname::text, p.provolatile::text, l.lanname::text, p.prokind::text,
           p.oid >= %(first)s,
           CASE WHEN p.oid >= %(first)s AND l.lanname IN ('sql', 'plpgsql')
                THEN p.prosrc || ' ' || coalesce(pg_get_function_sqlbody(p.oid), '') ELSE '' END,
           CASE WHEN p.prokind = 'a' THEN ARRAY[a.aggtransfn, a.aggfinalfn, a.aggcombinefn, a.aggserialfn,
                a.aggdeserialfn, a.aggmtransfn, a.aggminvtransfn, a.aggmfinalfn]::oid[]::bigint[] END
    FROM pg_proc p JOIN pg_language l ON l.oid = p.prolang LEFT JOIN pg_aggregate a ON a.aggfnoid = p.oid
    WHERE p.provolatile = 'v' OR p.oid >= %(first)s OR p.proname = ANY (%(executing)s)"""
_OPERATORS = "SELECT oprname::text, oprcode::oid::bigint FROM pg_operator WHERE oid >= %(first)s"
_CASTS = """
    SELECT format_type(castsource, NULL) || ' to ' || format_type(casttarget, NULL), castfunc::oid::bigint
    FROM pg_cast WHERE oid >= %(first)s AND castfunc <> 0"""
_DOMAINS = """
    SELECT format_type(contypid, NULL), pg_get_constraintdef(oid) FROM pg_constraint
    WHERE contypid <> 0 AND contype = 'c' AND oid >= %(first)s"""
_VIEWS = """
    SELECT relname::text, pg_get_viewdef(oid) FROM pg_class
    WHERE relkind = 'v' AND oid >= %(first)s AND relname = ANY (%(names)s)"""
_FOREIGN = """
    SELECT c.relname::text, w.fdwname::text FROM pg_foreign_table f JOIN pg_class c ON c.oid = f.ftrelid
    JOIN pg_foreign_server s ON s.oid = f.ftserver JOIN pg_foreign_data_wrapper w ON w.oid = s.srvfdw
    WHERE c.relname = ANY (%(names)s) AND w.fdwname <> 'postgres_fdw'"""
# The triggers and rules that a change of rows can set off: on the tables named, on their partitions, and on the
# tables that foreign keys lead to.
_SET_OFF = """
    WITH RECURSIVE reached AS (
        SELECT oid FROM pg_class WHERE relname = ANY (%(names)s) AND relkind IN ('r', 'p', 'f', 'v')
            AND oid >= %(first)s
        UNION
        SELECT n.oid FROM reached r CROSS JOIN LATERAL (
            SELECT inhrelid AS oid FROM pg_inherits WHERE inhparent = r.oid
            UNION ALL SELECT conrelid FROM pg_constraint WHERE contype = 'f' AND confrelid = r.oid) n)
    SELECT 'the trigger ' || tgname || ' of ' || tgrelid::regclass, NULL FROM pg_trigger
    WHERE tgrelid IN (SELECT oid FROM reached) AND NOT tgisinternal AND tgenabled <> 'D'
        AND NOT EXISTS (SELECT FROM pg_proc p WHERE p.oid = tgfoid AND p.prosecdef AND p.prosrc ~ %(recording)s)
    UNION ALL
    SELECT 'the rule ' || rulename || ' of ' || ev_class::regclass, NULL FROM pg_rewrite
    WHERE ev_class IN (SELECT oid FROM reached) AND ev_type <> '1'
    UNION ALL
    SELECT 'the check ' || conname || ' of ' || conrelid::regclass, pg_get_constraintdef(oid) FROM pg_constraint
    WHERE contype = 'c' AND conrelid IN (SELECT oid FROM reached)"""


# The body of a trigger by which a conversion records keys, as live/following.py writes it: it does nothing else, and
# what it has written is rolled back with the statement.
_NAMES = r"[^;()']+"
_KEYS = r"\([^;()']+\) VALUES \((?:(?:NEW|OLD)\.[^;()']+(?:, )?)+\)"
_RECORDING = (
    rf"^\s*BEGIN\s+IF TG_OP = 'INSERT' THEN\s+INSERT INTO {_NAMES} {_KEYS};\s+ELSIF TG_OP = 'UPDATE' THEN\s+"
    rf"INSERT INTO {_NAMES} {_KEYS};\s+ELSIF TG_OP = 'DELETE' THEN\s+INSERT INTO {_NAMES} {_KEYS};\s+ELSE\s+"
    rf"INSERT INTO {_NAMES} DEFAULT VALUES;\s+END IF;\s+RETURN NULL;\s+END\s*$"
)
# And that of the guard against old snapshots, as live/guarding.py writes it: it reads a mark, or fails.
_GUARDING = (
    rf"^\s*BEGIN\s+IF NOT EXISTS \(SELECT FROM {_NAMES} WHERE job = [0-9]+ AND what = TG_ARGV\[0\]\) THEN\s+"
    r"RAISE EXCEPTION '[^']*', TG_RELID::regclass\s+USING ERRCODE = 'serialization_failure', HINT = '[^']*';\s+"
    r"END IF;\s+RETURN NULL;\s+END\s*$"
)
_OWN_TRIGGERS = f"{_RECORDING}|{_GUARDING}"


@dataclass(frozen=True, slots=True)
class _Function:
    name: str
    volatility: str
    language: str
    kind: str
    is_users: bool
    body: str
    parts: tuple[int, ...]


@dataclass(frozen=True)
class PostgresFence:
    """Judges statements for one session; the catalogue is read when the first one is judged."""

    connection: Connection

    def why_not(self, sql: str, plan: str, *, changes: bool) -> str | None:
        """Why a statement may not be run; None when it may.

        plan      the JSON of EXPLAIN (VERBOSE) for it
        changes   whether it is an UPDATE or a DELETE
        """
        try:
            texts = [sql, *_strings(json.loads(plan))]
            texts += self._views_in(texts)
            called = frozenset().union(*map(called_in, texts))
            operators = frozenset().union(*map(operators_in, texts))
            names = frozenset().union(*map(names_in, texts))
        except (ValueError, RecursionError):
            return "its plan or its spelling cannot be judged"
        for name in sorted(called & self._barred_names.keys()):
            return f"it calls {name}, {self._barred_names[name]}"
        for name in sorted(operators & self._barred_operators.keys()):
            return f"the operator {name} calls {self._barred_operators[name]}"
        if self._barred_everywhere is not None:
            return self._barred_everywhere
        for name, wrapper in self._rows(_FOREIGN, names):
            return f"it reads the foreign table {name} through {wrapper}, which is not looked into"
        return self._set_off(names) if changes else None

    def may_evaluate(self, sql: str) -> bool:
        """Whether a constant expression reaches nothing that is not run, and nothing volatile."""
        try:
            called, operators = called_in(sql), operators_in(sql)
        except ValueError:
            return False
        return not (
            called & self._barred_names.keys()
            or called & self._volatile_names
            or operators & self._barred_operators.keys()
            or self._barred_everywhere
        )

    def _set_off(self, names: frozenset[str]) -> str | None:
        for what, definition in self._rows(_SET_OFF, names):
            if definition is None:
                return f"it may set off {what}"
            for name in sorted(called_in(definition) & self._barred_names.keys()):
                return f"{what} calls {name}, {self._barred_names[name]}"
        return None

    def _views_in(self, texts: list[str]) -> list[str]:
        """The definitions of all views that are named, and of those that they name."""
        known: set[str] = set()
        found: list[str] = []
        waiting = frozenset().union(*map(names_in, texts))
        while waiting - known:
            rows = self._rows(_VIEWS, waiting - known)
            known |= waiting
            definitions = [definition for _, definition in rows if definition is not None]
            found += definitions
            waiting = frozenset().union(*map(names_in, definitions))
        return found

    def _rows(self, query: str, names: frozenset[str] = frozenset()) -> list[tuple[Any, ...]]:
        asked = {
            "first": FIRST_OF_USERS,
            "names": sorted(names),
            "executing": list(_EXECUTING),
            "recording": _OWN_TRIGGERS,
        }
        with reading(self.connection):
            return self.connection.execute(query.encode(), asked).fetchall()

    @cached_property
    def _functions(self) -> dict[int, _Function]:
        return {
            oid: _Function(
                name=name,
                volatility=volatility,
                language=language,
                kind=kind,
                is_users=is_users,
                body=body,
                parts=tuple(parts or ()),
            )
            for oid, name, volatility, language, kind, is_users, body, parts in self._rows(_FUNCTIONS)
        }

    @cached_property
    def _barred(self) -> dict[int, str]:
        """The functions that are not run, by object identifier, each with the reason."""
        barred: dict[int, str] = {}
        for oid, each in self._functions.items():
            if (reason := _own_reason(each)) is not None:
                barred[oid] = reason
        names = {self._functions[oid].name for oid in barred}
        grows = True
        while grows:  # a function that calls one which is not run is not run either
            grows = False
            for oid, each in self._functions.items():
                if oid in barred or not each.is_users:
                    continue
                reached = sorted(_called(each.body) & names) or [
                    self._functions[part].name for part in each.parts if part in barred
                ]
                if reached:
                    barred[oid] = f"which calls {reached[0]}"
                    names.add(each.name)
                    grows = True
        return barred

    @cached_property
    def _barred_names(self) -> dict[str, str]:
        return {self._functions[oid].name: reason for oid, reason in self._barred.items()}

    @cached_property
    def _volatile_names(self) -> frozenset[str]:
        return frozenset(each.name for each in self._functions.values() if each.volatility == "v")

    @cached_property
    def _barred_operators(self) -> dict[str, str]:
        return {
            name: f"{self._functions[oid].name}, {self._barred[oid]}"
            for name, oid in self._rows(_OPERATORS)
            if oid in self._barred
        }

    @cached_property
    def _barred_everywhere(self) -> str | None:
        """Functions that a statement reaches without naming them: where there are any, no statement is run."""
        for cast, oid in self._rows(_CASTS):
            if oid in self._barred:
                return f"this database has a cast from {cast} that calls {self._functions[oid].name}"
        for domain, definition in self._rows(_DOMAINS):
            for name in sorted(_called(definition) & self._barred_names.keys()):
                return f"this database has a domain {domain} whose check calls {name}"
        return None


def _own_reason(each: _Function) -> str | None:
    """Why a function is not run, as far as it tells itself."""
    if each.name in _EXECUTING:
        return "which executes a text"
    if each.volatility == "v" and each.kind != "a":
        harmless = each.name in (_HARMLESS_IN_C if each.is_users and each.language == "c" else _HARMLESS)
        if not harmless or (each.is_users and each.language != "c"):
            return "which the server calls volatile"
    if each.is_users and each.kind != "a" and each.language not in _READ_INTO:
        return f"which is written in {each.language} and not looked into"
    if each.language == "plpgsql" and "execute" in names_in(each.body):
        return "which executes a text"
    return None


def _called(body: str) -> frozenset[str]:
    """The names that a body calls; all of its names where that cannot be told."""
    try:
        return called_in(body)
    except ValueError:
        return names_in(body)


def _strings(found: Any) -> Iterator[str]:
    match found:
        case str():
            yield found
        case list():
            for each in found:
                yield from _strings(each)
        case dict():
            for each in found.values():
                yield from _strings(each)


_POWERS = """
    SELECT current_user::text, r.rolsuper,
           ARRAY(SELECT g.rolname::text FROM pg_roles g WHERE NOT r.rolsuper AND pg_has_role(g.oid, 'USAGE')
                 AND g.rolname IN ('pg_execute_server_program', 'pg_write_server_files', 'pg_signal_backend',
                                   'pg_write_all_data', 'pg_maintain', 'pg_checkpoint')),
           EXISTS (SELECT FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
                   WHERE c.relkind IN ('r', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema')
                     AND n.nspname NOT LIKE 'pg\\_%%' AND has_schema_privilege(n.oid, 'USAGE')
                     AND has_table_privilege(c.oid, 'INSERT, UPDATE, DELETE, TRUNCATE'))
    FROM pg_roles r WHERE r.rolname = current_user"""


def powers(connection: Connection) -> str | None:
    """The rights of the session's role besides reading, in words; None for a role that can only read."""
    with reading(connection):
        row = connection.execute(_POWERS.encode(), {}).fetchone()
    if row is None:
        return None
    role, is_superuser, memberships, writes = row
    could = ["do anything: it is a superuser"] if is_superuser else []
    could += [f"act as a member of {', '.join(memberships)}"] if memberships else []
    could += ["change rows"] if writes and not is_superuser else []
    if not could:
        return None
    return (
        f"the statements are run as {role}, who could {' and '.join(could)}; "
        "a role that has SELECT only is safer (docs/guide/proving.md)"
    )
