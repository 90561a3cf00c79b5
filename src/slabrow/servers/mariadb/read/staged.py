"""A table that is to become a partition: what keeps it from that, and whether its rows lie within the bounds."""

from __future__ import annotations

from collections.abc import Iterator

from slabrow.core.sql.backquoted import lexemes
from slabrow.core.sql.pieces import Piece
from slabrow.core.table.bounds import Bounds, CatchAll
from slabrow.core.table.shape import Column, Shape
from slabrow.core.upkeep.membership import Staged, room_for
from slabrow.core.values.names import Name
from slabrow.core.values.wording import rows_of
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.connection import Connection, reading
from slabrow.servers.mariadb.quoting import identifier
from slabrow.servers.mariadb.read import catalogue, row_counts
from slabrow.servers.mariadb.read.shape import shape

_EXCHANGED_A_SECOND = 300_000  # rows that EXCHANGE looks through: 0.4 s for 130,000, measured on 10.11


def staged(connection: Connection, parent: Name, name: Name, bounds: Bounds, key: tuple[str, ...]) -> Staged:
    """Reads its rows once."""
    with reading(connection, "read the table that is to become a partition"):
        tree, wanted = catalogue.tree(connection, parent), shape(connection, parent)
        found = catalogue.relation(connection, name)
        table = shape(connection, found.name)
        faults = [*_faults(connection, wanted, table)]
        if any(not child.is_leaf for child in tree.children):
            faults.append(f"{parent} is divided within: this server takes no table in there")
        if faults:
            return Staged(shape=table, faults=tuple(faults))
        source, names = quoting.table(found.name), quoting.columns(key)
        held = "TRUE" if isinstance(bounds, CatchAll) else quoting.condition(bounds, key)
        # A NULL that no bound names makes the condition NULL: such a row lies outside too.
        outside = f"NOT ifnull({held}, FALSE)"
        rows, beyond = connection.rows(f"SELECT count(*), ifnull(sum({outside}), 0) FROM {source}")[0]
        examples = [] if not beyond else connection.rows(
            f"SELECT {names} FROM {source} WHERE {outside} ORDER BY {names} LIMIT 3"
        )  # fmt: skip
        room = room_for(bounds, tree, name.table)
        same = [each for each in tree.children if room.is_made and each.name.table.lower() == name.table.lower()]
        waiting, notes = 0, []
        # When an earlier run has put its rows in already, those that lie there are its own.
        for each in [] if room.is_made and not rows else [*([room.host] if room.host is not None else []), *same]:
            lying = f"SELECT count(*) FROM {row_counts.leaf_source(parent, each)} WHERE {held}"
            waiting += int(connection.rows(lying)[0][0])
    if room.host is not None:
        notes.append(
            f"{room.host.spelling} is divided, and the server copies its {rows_of(room.host.rows or 0)} for that: "
            "writers wait meanwhile."
        )
    if not waiting:
        seconds = rows / _EXCHANGED_A_SECOND
        notes.append(
            f"The server looks through {rows_of(rows)} of {name} as it takes them in: writers of {parent} wait "
            f"meanwhile, about {seconds:.1f} s."
        )
    if waiting and (firing := firing_triggers(connection, tree.table)):
        return Staged(shape=table, faults=tuple(f"{each}: drop it for the time, and make it anew" for each in firing))
    texts = tuple(", ".join("NULL" if value is None else str(value) for value in row) for row in examples)
    return Staged(
        shape=table, rows=int(rows), outside=int(beyond), examples=texts, in_catch_all=waiting, notes=tuple(notes)
    )


def firing_triggers(connection: Connection, table: Name) -> list[str]:
    """Triggers that would fire for each row that is put into a table, Slabrow's own left out: those record it."""
    rows = connection.rows(
        "SELECT trigger_name FROM information_schema.triggers WHERE event_object_schema = %s "
        "AND event_object_table = %s AND event_manipulation = 'INSERT' AND trigger_name NOT RLIKE %s",
        (table.schema, table.table, "^(log|back)_[0-9]+_i$"),
    )
    return [f"the trigger {name} of {table} would fire for each row that comes in" for (name,) in rows]


def extent(connection: Connection, name: Name, column: str) -> tuple[str | None, str | None]:
    """The least and the greatest value of a column, as the server spells them."""
    found = catalogue.relation(connection, name)
    quoted = identifier(column)
    with reading(connection, "read the table that is to become a partition"):
        rows = connection.rows(
            f"SELECT CAST(min({quoted}) AS CHAR), CAST(max({quoted}) AS CHAR) FROM {quoting.table(found.name)}"
        )
    return rows[0][0], rows[0][1]


def _faults(connection: Connection, wanted: Shape, table: Shape) -> Iterator[str]:
    """What the server would refuse, or lose, each with the remedy."""
    here = quoting.table(table.name)
    if _is_partitioned(connection, table.name):
        yield f"{table.name} is partitioned itself: bring its rows into a plain table"
    yield from table.obstacles
    if [each.name for each in wanted.columns] != [each.name for each in table.columns]:
        listed = ", ".join(each.name for each in wanted.columns)
        yield f"its columns must be these, in this order: {listed}"
        return
    for column, found in zip(wanted.columns, table.columns, strict=True):
        if _kept(column) != _kept(found):
            change = f"ALTER TABLE {here} MODIFY {identifier(column.name)} {column.definition}"
            yield f"column {column.name} is {found.definition}, and must be {column.definition}: {change}"
    own = {each.definition for each in table.constraints}
    for constraint in wanted.constraints:
        if constraint.definition not in own:
            yield f"{table.name} has no {constraint.definition}: add it"
    known = {each.definition for each in wanted.constraints}
    known |= {each.definition for each in wanted.indexes}
    for definition in [*own, *(each.definition for each in table.indexes)]:
        if definition not in known:
            yield f"{table.name} has {definition}, and its table has not: drop it"
    if (options := _options(wanted)) != _options(table):
        yield f"{table.name} is {_options(table)}, and must be {options}: ALTER TABLE {here} {options}"


def _kept(column: Column) -> list[str]:
    """The words of a column's definition without its default and its comment: those may differ."""
    pieces = [each for each in lexemes(column.definition) if each.piece not in (Piece.BLANK, Piece.COMMENT)]
    kept: list[str] = []
    skips = False
    for each in pieces:
        if skips:
            skips = False
            continue
        skips = each.piece is Piece.WORD and each.value in ("default", "comment")
        if not skips:
            kept.append(each.value)
    return kept


def _options(found: Shape) -> str:
    """The options of the table, such as its engine, without its comment."""
    words = " ".join(found.options)
    at = next((each.start for each in lexemes(words) if each.text == "COMMENT"), len(words))
    return words[:at].strip()


def _is_partitioned(connection: Connection, name: Name) -> bool:
    row = connection.row(
        "SELECT 1 FROM information_schema.partitions WHERE table_schema = %s AND table_name = %s "
        "AND partition_name IS NOT NULL LIMIT 1",
        (name.schema, name.table),
    )
    return row is not None
