"""Writes how an archive comes back: a table is made, loaded, compared with what was archived, and attached.

Pure: text out, nothing sent. All of it is one transaction, so that a kill at any moment leaves nothing behind.
"""

from collections.abc import Iterator

from slabrow.core.upkeep.actions import Adopt
from slabrow.core.upkeep.statements import Check, Load, Part, Statement, Transaction
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.read.row_export import STEADY, fingerprint_sql
from slabrow.servers.postgresql.write.ddl import Upkeep, lock_timeout

_PASSING = "slabrow_adopting"  # a temporary table for rows whose instants and days are numbers


def adoption(action: Adopt, upkeep: Upkeep | None, lock_wait_ms: int) -> Transaction:
    """upkeep: how new partitions of the parent are written; None for a table that stands alone."""
    table = quoting.table(action.partition)
    attaching: tuple[Part, ...] = ()
    if upkeep is None:
        columns = ", ".join(f"{identifier(name)} {action.types[name]}" for name, _, _ in action.columns)
        made = [f"CREATE TABLE {table} ({columns})"]
    else:
        made, attach = upkeep.adoption(action)
        # The lock of ATTACH, taken first by itself: a try that gets no lock costs only itself, and not the loading.
        lock = f"LOCK TABLE ONLY {quoting.table(action.table)} IN SHARE UPDATE EXCLUSIVE MODE"
        attaching = (Statement(lock, is_lock=True), Statement(attach, 0.1))
    statements = (
        lock_timeout(lock_wait_ms),
        *(Statement(f"SET LOCAL {name} = {literal(value)}") for name, value in STEADY.items()),
        *map(Statement, made),
        *_loading(action),
        _comparison(action),
        *attaching,
    )
    return Transaction(f"adopt {action.partition}", statements)


def _loading(action: Adopt) -> Iterator[Part]:
    """By COPY. Rows of a CSV archive, in which instants and days are numbers, go through a passing table."""
    table, doing = quoting.table(action.partition), f"loading {action.partition}"
    columns = quoting.columns(tuple(name for name, _, _ in action.columns))
    if action.is_text:
        yield Load(f"COPY {table} ({columns}) FROM STDIN (FORMAT CSV)", action.rows_in, 0.7, doing)
        return
    as_numbers = {"timestamp": "bigint", "timestamptz": "bigint", "date": "integer"}
    passing = ", ".join(
        f"{identifier(name)} {as_numbers.get(form, 'text' if form == 'text' else action.types[name])}"
        for name, _, form in action.columns
    )
    yield Statement(f"CREATE TEMPORARY TABLE {_PASSING} ({passing}) ON COMMIT DROP")
    yield Load(f"COPY {_PASSING} FROM STDIN (FORMAT CSV)", action.rows_in, 0.4, doing)
    values = ", ".join(_value(identifier(name), action.types[name], form) for name, _, form in action.columns)
    insert = f"INSERT INTO {table} ({columns}) OVERRIDING SYSTEM VALUE SELECT {values} FROM {_PASSING}"
    yield Statement(insert, 0.3, doing)


def _value(name: str, type_name: str, form: str) -> str:
    """From the file's form back to the column's type; microseconds in two parts, as floating point loses some."""
    match form:
        case "timestamp" | "timestamptz":
            base = "timestamptz '1970-01-01 00:00+00'" if form == "timestamptz" else "timestamp '1970-01-01'"
            return f"{base} + ({name} / 1000000) * interval '1 second' + ({name} % 1000000) * interval '1 microsecond'"
        case "date":
            return f"date '1970-01-01' + {name}"
        case _:
            return f"{name}::{type_name}"


def _comparison(action: Adopt) -> Check:
    names = [name for name, _, _ in action.columns]
    return Check(
        f"SELECT {literal(str(action.partition))}, {action.row_count}::bigint, f.count, "
        f"f.count <> {action.row_count} OR f.fingerprint <> {literal(action.fingerprint)} "
        f"FROM ({fingerprint_sql(action.partition, names)}) f (count, fingerprint)",
        f"what was loaded of {action.partition} is not what was archived",
        0.2,
        "comparing",
        fix="compare the columns of the table with those of the manifest",
    )
