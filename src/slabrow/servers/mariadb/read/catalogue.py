"""Reads what the server holds: tables, columns, trees, leaves. Few queries, each with schema and table named."""

from __future__ import annotations

import re
import struct
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from io import BytesIO
from zoneinfo import ZoneInfo

from slabrow.core.sql.backquoted_types import kind_of_type, stored_type
from slabrow.core.sql.partition_clause import partition_clause
from slabrow.core.sql.tree_of_clause import LeafFigures, tree_of_clause
from slabrow.core.table.relation import (
    ColumnFact,
    ForeignKeyFact,
    IndexFact,
    LeafFact,
    LeavesTotal,
    Relation,
    RelationKind,
)
from slabrow.core.table.tree import KeyColumn, Tree
from slabrow.core.values.errors import UsageError, nearest
from slabrow.core.values.names import Name
from slabrow.servers.mariadb.connection import Connection
from slabrow.servers.mariadb.errors import explained
from slabrow.servers.mariadb.quoting import table as quoted

SYSTEM = ("information_schema", "mysql", "performance_schema", "sys")
_KINDS = {"VIEW": RelationKind.VIEW, "SYSTEM VIEW": RelationKind.VIEW, "SEQUENCE": RelationKind.SEQUENCE}


def full_name(connection: Connection, name: Name) -> Name:
    """With its database. Raises UsageError when neither the name nor the connection has one."""
    if name.schema is not None:
        return name
    if not connection.database:
        raise UsageError(f"{name} is looked for in no database", fix="name it as database.table, or end the DSN in one")
    return Name(connection.database, name.table)


def spelling(connection: Connection, name: Name) -> str:
    """With its database only where that is not the connection's own."""
    return str(Name(None, name.table) if name.schema == connection.database else name)


def relation(connection: Connection, name: Name) -> Relation:
    """The table of that name. Raises UsageError with the nearest names when there is none."""
    full = full_name(connection, name)
    row = connection.row(
        "SELECT table_type, create_options, table_rows, data_length, index_length, table_schema, table_name "
        "FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
        (full.schema, full.table),
    )
    if row is None:
        raise _not_there(connection, full)
    kind, options, rows, heap, indexes, schema, table = row
    found = Name(schema, table)
    if kind not in _KINDS and "partitioned" in (options or ""):
        relation_kind = RelationKind.PARTITIONED
    else:
        relation_kind = _KINDS.get(kind, RelationKind.TABLE)
    return Relation(
        identity=0,
        name=found,
        spelling=spelling(connection, found),
        kind=relation_kind,
        is_partition=False,
        rows=None if rows is None else int(rows),
        heap_bytes=int(heap or 0),
        index_bytes=int(indexes or 0),
        toast_bytes=0,
    )


def _not_there(connection: Connection, name: Name) -> UsageError:
    rows = connection.rows(
        "SELECT table_schema, table_name FROM information_schema.tables WHERE table_schema NOT IN %s LIMIT 5000",
        (SYSTEM,),
    )
    known = [Name(schema, table) for schema, table in rows]
    same = [each for each in known if each.table.lower() == name.table.lower()]
    near = str(same[0]) if same else nearest(str(name), map(str, known))
    return UsageError(
        f"there is no table {name}, or this user has no right on it",
        fix=f"did you mean {near}?" if near else "check the name, and the rights of the user",
    )


def exists(connection: Connection, name: Name) -> bool:
    """Whether there is a table or view of that name."""
    full = full_name(connection, name)
    return (
        connection.row(
            "SELECT 1 FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
            (full.schema, full.table),
        )
        is not None
    )


def has_schema(connection: Connection, name: str) -> bool:
    """Whether there is a database of that name."""
    return connection.row("SELECT 1 FROM information_schema.schemata WHERE schema_name = %s", (name,)) is not None


def columns_of(connection: Connection, tables: Sequence[Name]) -> dict[Name, dict[str, KeyColumn]]:
    """The columns of some tables, as key columns are described: one query."""
    if not tables:
        return {}
    rows = connection.rows(
        "SELECT table_schema, table_name, column_name, column_type, is_nullable, collation_name "
        "FROM information_schema.columns WHERE (table_schema, table_name) IN %s "
        "ORDER BY table_schema, table_name, ordinal_position",
        (tuple((each.schema, each.table) for each in tables),),
    )
    found: dict[Name, dict[str, KeyColumn]] = {}
    for schema, table, column, type_name, nullable, collation in rows:
        type_name = stored_type(type_name)
        found.setdefault(Name(schema, table), {})[column] = KeyColumn(
            column,
            column,
            kind_of_type(type_name),
            type_name,
            nullable == "NO",
            in_byte_order=bool(collation) and str(collation).endswith("_bin"),
            collation=collation,
        )
    return found


def columns(connection: Connection, found: Relation) -> tuple[ColumnFact, ...]:
    """The columns of a table in their order."""
    known = columns_of(connection, [found.name]).get(found.name, {})
    return tuple(ColumnFact(each.text, each.type_name, each.not_null, each.kind) for each in known.values())


def creation(connection: Connection, name: Name) -> str:
    """SHOW CREATE TABLE, in which alone DEFAULT and the algorithm of KEY can be told."""
    row = connection.row(f"SHOW CREATE TABLE {quoted(name)}")
    return str(row[1]) if row else ""


def figures(connection: Connection, name: Name) -> dict[str, LeafFigures]:
    """Estimated rows and bytes of each leaf, by its spelling."""
    rows = connection.rows(
        "SELECT partition_name, subpartition_name, table_rows, data_length, index_length "
        "FROM information_schema.partitions WHERE table_schema = %s AND table_name = %s",
        (name.schema, name.table),
    )
    return {
        partition if sub is None else f"{partition}_{sub}": LeafFigures(int(count or 0), int(heap) + int(index))
        for partition, sub, count, heap, index in rows
        if partition is not None
    }


def usual_key(connection: Connection, name: Name) -> tuple[str, ...]:
    """The columns of the primary key, else of the first unique key that cannot be NULL: what KEY () is by."""
    rows = connection.rows(
        "SELECT index_name, column_name, nullable FROM information_schema.statistics "
        "WHERE table_schema = %s AND table_name = %s AND non_unique = 0 ORDER BY index_name = 'PRIMARY' DESC, "
        "index_name, seq_in_index",
        (name.schema, name.table),
    )
    keys: dict[str, list[tuple[str, str]]] = {}
    for index, column, nullable in rows:
        keys.setdefault(index, []).append((column, nullable))
    for parts in keys.values():
        if not any(nullable for _, nullable in parts):
            return tuple(column for column, _ in parts)
    return ()


def tree(connection: Connection, name: Name, *, with_values: bool = False) -> Tree:
    """A partitioned table with its partitions. Raises UsageError when there is none, or it is not partitioned."""
    with explained(f"read {name}"):
        found = relation(connection, name)
        if not found.is_partitioned:
            raise UsageError(f"{found.spelling} is not partitioned", found=f"it is a {found.kind}")
        known = _tree(connection, found.name, figures(connection, found.name))
        if not with_values:
            return known
        from slabrow.servers.mariadb.read.row_counts import with_extremes

        return with_extremes(connection, known)


def _tree(connection: Connection, name: Name, sizes: Mapping[str, LeafFigures] | None) -> Tree:
    text = creation(connection, name)
    if "SYSTEM_TIME" in text.rpartition("PARTITION BY")[2]:
        raise UsageError(
            f"{name} is partitioned by system versioning", fix="its history is the server's own to keep: leave it"
        )
    clause = partition_clause(text)
    if clause is None:
        raise UsageError(f"{name} is not partitioned")
    columns = columns_of(connection, [name]).get(name, {})
    key = usual_key(connection, name) if clause_needs_key(text) else ()
    return tree_of_clause(name, spelling(connection, name), clause, columns, key, sizes)


def clause_needs_key(text: str) -> bool:
    """Whether a KEY without columns stands in it."""
    return re.search(r"KEY\s*(?:ALGORITHM\s*=\s*\d\s*)?\(\s*\)", text) is not None


def trees(connection: Connection, names: Iterable[Name], *, with_sizes: bool = True) -> dict[Name, Tree]:
    """Many tables with their partitions, by the names asked for. What is not there or not partitioned is left out."""
    found: dict[Name, Tree] = {}
    for name in names:
        try:
            held = relation(connection, name)
            if held.is_partitioned:
                sizes = figures(connection, held.name) if with_sizes else None
                found[name] = _tree(connection, held.name, sizes)
        except UsageError:
            continue
    return found


def all_leaves(connection: Connection) -> tuple[LeafFact, ...]:
    """Every partitioned table that this user may see, with its leaves: one query, of few columns."""
    rows = connection.rows(
        "SELECT table_schema, table_name, partition_name, subpartition_name, table_rows "
        "FROM information_schema.partitions WHERE table_schema NOT IN %s AND partition_name IS NOT NULL",
        (SYSTEM,),
    )
    found = []
    for schema, table, partition, sub, count in rows:
        root = Name(schema, table)
        leaf = partition if sub is None else f"{partition}_{sub}"
        found.append(
            LeafFact(
                root=spelling(connection, root),
                root_name=root,
                plan_name=plan_name(root, leaf),
                spelling=leaf,
                rows=int(count or 0),
            )
        )
    return tuple(found)


def plan_name(root: Name, leaf: str) -> str:
    """A leaf as scans name it here: leaves of several tables may be called the same."""
    return f"{root.schema}.{root.table}.{leaf}"


def names_like(connection: Connection, prefix: str, *, partitions: bool, most: int) -> tuple[str, ...]:
    """Tables, or leaves, whose names begin so; a leaf is named behind its table's database."""
    pattern = prefix.replace('"', "").replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
    name = "partition_name" if partitions else "table_name"
    source = "information_schema.partitions" if partitions else "information_schema.tables"
    rows = connection.rows(
        f"SELECT DISTINCT table_schema, {name} FROM {source} WHERE table_schema NOT IN %s AND {name} IS NOT NULL "
        f"AND (concat(table_schema, '.', {name}) LIKE %s OR {name} LIKE %s) ORDER BY 1, 2 LIMIT %s",
        (SYSTEM, pattern, pattern, most),
    )
    return tuple(str(Name(schema, found)) for schema, found in rows)


def names_in_schema(connection: Connection, schema: str | None) -> frozenset[str]:
    """Every table in a database. Partitions have a name space of their own, in each table."""
    rows = connection.rows(
        "SELECT table_name FROM information_schema.tables WHERE table_schema = %s", (schema or connection.database,)
    )
    return frozenset(name for (name,) in rows)


def leaves_total(connection: Connection, found: Relation) -> LeavesTotal:
    """All leaves together. The engine keeps statistics of every leaf by itself."""
    row = connection.row(
        "SELECT count(*), coalesce(sum(table_rows), 0), coalesce(sum(data_length), 0), coalesce(sum(index_length), 0) "
        "FROM information_schema.partitions WHERE table_schema = %s AND table_name = %s AND partition_name IS NOT NULL",
        (found.name.schema, found.name.table),
    )
    count, rows, heap, indexes = map(int, row or (0, 0, 0, 0))
    return LeavesTotal(
        leaves=count,
        rows=rows,
        heap_bytes=heap,
        index_bytes=indexes,
        toast_bytes=0,
        unanalysed=0,
        some_unanalysed=(),
    )


def whole(connection: Connection, found: Relation) -> tuple[Relation, LeavesTotal | None]:
    """The server already counts the leaves in with the table."""
    return found, leaves_total(connection, found) if found.is_partitioned else None


def indexes(connection: Connection, found: Relation) -> tuple[IndexFact, ...]:
    """The indexes of a table with their columns; bytes only where the engine's statistics may be read."""
    rows = connection.rows(
        "SELECT index_name, min(non_unique), group_concat(coalesce(column_name, '?') ORDER BY seq_in_index "
        "SEPARATOR ', '), min(index_type) FROM information_schema.statistics "
        "WHERE table_schema = %s AND table_name = %s GROUP BY index_name "
        "ORDER BY index_name = 'PRIMARY' DESC, index_name",
        (found.name.schema, found.name.table),
    )
    sizes = _index_bytes(connection, found.name)
    return tuple(
        IndexFact(
            name=name,
            definition=f"{kind.lower()} ({columns})",
            bytes=sizes.get(name, 0),
            is_unique=not non_unique,
            is_primary=name == "PRIMARY",
            is_valid=True,
            scans=None,  # the server counts rows that an index gave, never how often it was asked
        )
        for name, non_unique, columns, kind in rows
    )


def _index_bytes(connection: Connection, name: Name) -> dict[str, int]:
    from pymysql import err

    try:
        rows = connection.rows(
            "SELECT index_name, sum(stat_value) * @@innodb_page_size FROM mysql.innodb_index_stats "
            "WHERE database_name = %s AND (table_name = %s OR table_name LIKE %s) AND stat_name = 'size' "
            "GROUP BY index_name",
            (name.schema, name.table, name.table.replace("_", "\\_").replace("%", "\\%") + "#P#%"),
        )
    except err.MySQLError:  # without the right on `mysql`
        return {}
    return {index: int(size) for index, size in rows}


def foreign_keys(connection: Connection, found: Relation) -> tuple[ForeignKeyFact, ...]:
    """The foreign keys out of a table and into it."""
    rows = connection.rows(
        "SELECT constraint_name, table_schema, table_name, referenced_table_schema, referenced_table_name, "
        "group_concat(column_name ORDER BY ordinal_position SEPARATOR ', '), "
        "group_concat(referenced_column_name ORDER BY ordinal_position SEPARATOR ', ') "
        "FROM information_schema.key_column_usage WHERE referenced_table_name IS NOT NULL AND "
        "((table_schema = %s AND table_name = %s) OR (referenced_table_schema = %s AND referenced_table_name = %s)) "
        "GROUP BY 1, 2, 3, 4, 5",
        (found.name.schema, found.name.table) * 2,
    )
    facts = []
    for name, schema, table, to_schema, to_table, own, theirs in rows:
        is_out = (schema, table) == (found.name.schema, found.name.table)
        other = Name(to_schema, to_table) if is_out else Name(schema, table)
        definition = f"FOREIGN KEY ({own}) REFERENCES {Name(to_schema, to_table)} ({theirs})"
        facts.append(ForeignKeyFact(name, "out" if is_out else "in", spelling(connection, other), definition))
    return tuple(facts)


def current_role(connection: Connection) -> str:
    """The account that acts, as the server matched it."""
    row = connection.row("SELECT current_user()")
    return str(row[0]) if row else ""


def comment(connection: Connection, found: Relation) -> str | None:
    """The comment on a table."""
    row = connection.row(
        "SELECT table_comment FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
        (found.name.schema, found.name.table),
    )
    return str(row[0]) if row and row[0] else None


def moment(connection: Connection) -> datetime:
    """The server's now(), to the microsecond."""
    row = connection.row("SELECT utc_timestamp(6)")
    assert row is not None
    found: datetime = row[0]
    return found.replace(tzinfo=UTC)


def session_zone(connection: Connection) -> ZoneInfo | None:
    """The zone of users' sessions: an offset, or a name that is known here too."""
    text = connection.system_zone if connection.zone == "SYSTEM" else connection.zone
    if text[:1] in ("+", "-") and ":" in text:
        hours, minutes = text[1:].split(":")
        seconds = (int(hours) * 60 + int(minutes)) * 60
        return _fixed_zone(text, -seconds if text[0] == "-" else seconds)
    try:
        return ZoneInfo(text)
    except (ValueError, OSError, KeyError):
        return None


def _fixed_zone(name: str, seconds: int) -> ZoneInfo:
    """An offset as a zone: a file of that format (RFC 8536) with one kind of local time and no change."""
    label = name.encode() + b"\0"
    counts = struct.pack(">6l", 0, 0, 0, 0, 1, len(label))
    file = b"TZif" + bytes(16) + counts + struct.pack(">lbB", seconds, 0, 0) + label
    return ZoneInfo.from_file(BytesIO(file), name)
