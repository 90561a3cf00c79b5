"""Writes how an archive comes back: loaded into a passing table, compared with what was archived, and put in its place.

Only the last transaction that changes rows makes them visible. A kill before it leaves the passing table, which the
next try replaces, and perhaps the empty partition, which it goes on with. Pure: text out, nothing sent.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import date, datetime, timedelta
from functools import partial

from slabrow.core.sql.backquoted_types import BYTES, bare_type
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.actions import Adopt
from slabrow.core.upkeep.statements import Check, Load, Statement, Transaction
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.quoting import identifier, literal
from slabrow.servers.mariadb.write.archiving import fingerprint_sql
from slabrow.servers.mariadb.write.room import making_room

_BATCH_BYTES = 1 << 19  # of one INSERT: far below max_allowed_packet, which is at least 1 MB in practice
_EPOCH = datetime(1970, 1, 1)
_FIELD = re.compile(r'"((?:[^"]|"")*)"([,\n])|([^",\n]*)([,\n])')


def adoption(action: Adopt, tree: Tree | None) -> tuple[Transaction, ...]:
    """tree: of the table that the partition comes back to; None for a table that stands alone.

    Raises Refusal where the table has no room for it.
    """
    digest = hashlib.sha256(f"{action.table}/{action.partition}".encode()).hexdigest()[:12]
    passing = Name(action.table.schema, f"slabrow_adopting_{digest}")
    here, names = quoting.table(passing), tuple(name for name, _, _ in action.columns)
    listed = quoting.columns(names)
    if tree is None:
        columns = ", ".join(f"{identifier(name)} {action.types[name]}" for name in names)
        made = [f"CREATE TABLE {here} ({columns})"]
    else:
        made = [
            f"CREATE TABLE {here} LIKE {quoting.table(tree.table)}",
            f"ALTER TABLE {here} REMOVE PARTITIONING",
        ]
    doing = f"loading {action.partition}"
    rows = partial(_as_values, action.rows_in, [(action.types[name], form) for name, _, form in action.columns])
    load = Load(f"INSERT INTO {here} ({listed}) VALUES", rows, 0.6, doing)
    found = fingerprint_sql(here, [(name, action.types[name]) for name in names])
    check = Check(
        f"SELECT {literal(str(action.partition))}, {action.row_count:d}, f.held, f.held <> {action.row_count:d} "
        f"OR f.fingerprint <> {literal(action.fingerprint)} FROM ({found}) f",
        f"what was loaded of {action.partition} is not what was archived",
        0.2,
        "comparing",
        fix="compare the columns of the table with those of the manifest",
    )
    drop = f"DROP TABLE IF EXISTS {here}"
    begin = Transaction(doing, tuple(map(Statement, (drop, *made))), is_atomic=False)
    loading = Transaction(doing, (load, check))
    if tree is None:
        rename = Statement(f"RENAME TABLE {here} TO {quoting.table(action.partition)}")
        named = Transaction(f"adopt {action.partition}", (rename,), is_atomic=False)
        return (begin, loading, named, Transaction("write it down", ()))
    assert action.bounds is not None
    into = f"{quoting.table(tree.table)} PARTITION ({identifier(action.partition.table)})"
    put = Statement(f"INSERT INTO {into} ({listed}) SELECT {listed} FROM {here}", 0.2)
    room = making_room(tree, action.bounds, action.partition.table)
    return (
        begin,
        loading,
        *([room] if room is not None else []),
        Transaction(f"adopt {action.partition}", (put,)),
        Transaction("clear up", (Statement(drop),), is_atomic=False),
    )


def _as_values(rows_in: Callable[[], Iterator[bytes]], columns: Sequence[tuple[str, str]]) -> Iterator[bytes]:
    """The archive's rows as what stands behind VALUES. columns: type and form of each.

    Raises UsageError for a value that is none of its type: an archive is never trusted.
    """
    batch: list[str] = []
    size = 0
    for row in _rows(rows_in()):
        if len(row) != len(columns):
            raise UsageError("the archive has a row with another number of values", found=f"{len(row)}")
        try:
            text = f"({', '.join(map(_value, row, columns))})"
        except (ValueError, OverflowError) as error:
            raise UsageError("the archive holds a value that is none", found=str(error)[:200]) from None
        if batch and size + len(text) > _BATCH_BYTES:
            yield ", ".join(batch).encode()
            batch, size = [], 0
        batch.append(text)
        size += len(text)
    if batch:
        yield ", ".join(batch).encode()


def _rows(chunks: Iterator[bytes]) -> Iterator[list[str | None]]:
    """Rows of CSV in which only what is in quotes is a text: an empty field without them is NULL. (The csv module does
    not tell these two apart.)
    """
    rest = b""
    row: list[str | None] = []
    for chunk in chunks:
        data = rest + chunk
        cut = data.rfind(b"\n") + 1
        text, at = data[:cut].decode(), 0
        begun = 0
        while at < len(text):
            match = _FIELD.match(text, at)
            if match is None:
                break  # a text that goes on in the next chunk
            quoted, end, plain, plain_end = match.groups()
            row.append(quoted.replace('""', '"') if quoted is not None else plain or None)
            at = match.end()
            if (end or plain_end) == "\n":
                yield row
                row, begun = [], at
        row = []
        rest = text[begun:].encode() + data[cut:]
    if rest:
        raise UsageError("the archive ends in the middle of a row", fix="take it from a copy")


def _value(text: str | None, column: tuple[str, str]) -> str:
    """A value as SQL. Raises ValueError for what is none of the type."""
    type_name, form = column
    if text is None:
        return "NULL"
    bare = bare_type(type_name)
    if bare in BYTES:
        return f"X'{bytes.fromhex(text).hex()}'"
    if form == "integer" or bare == "bit":
        return str(int(text))
    if form == "real":
        return repr(float(text))
    if form == "date" and not text.count("-") > 1:
        return literal((date(1970, 1, 1) + timedelta(days=int(text))).isoformat())
    if form in ("timestamp", "timestamptz") and text.lstrip("-").isdecimal():
        return literal((_EPOCH + timedelta(microseconds=int(text))).isoformat(" "))
    return literal(text.removesuffix("Z") if form == "timestamptz" else text)
