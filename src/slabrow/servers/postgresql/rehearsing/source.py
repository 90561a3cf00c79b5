"""Describes a real table for a rehearsal, from the catalogue and its statistics: no row is read."""

import re
from dataclasses import replace

from slabrow.core.rehearsal.made_up_column import ColumnFacts
from slabrow.core.rehearsal.made_up_table import EnumerationFacts, ForeignKeyFacts, SourceTable
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.table.shape import Column, Constraint, Shape
from slabrow.core.values.errors import ServerError
from slabrow.core.values.key_values import Kind, Opaque, Value, kind_of, parse_value
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.quoting import identifier
from slabrow.servers.postgresql.read import catalogue
from slabrow.servers.postgresql.read.shape import shape as read_shape
from slabrow.servers.postgresql.rehearsing.binary_forms import can_encode

# typtype is e for an enumeration and d for a domain (pg_type).
_TYPES = """
    SELECT a.attname, t.typtype::text,
           CASE WHEN t.typtype = 'd' THEN format_type(t.typbasetype, t.typtypmod) END,
           ARRAY(SELECT enumlabel FROM pg_enum WHERE enumtypid = t.oid ORDER BY enumsortorder)::text[],
           n.nspname, t.typname, coalesce(s.avg_width, 8), t.typelem::int, t.typcategory::text
    FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid JOIN pg_namespace n ON n.oid = t.typnamespace
    LEFT JOIN pg_stats s ON s.schemaname = %(schema)s AND s.tablename = %(table)s AND s.attname = a.attname
                        AND s.inherited = %(inherited)s
    WHERE a.attrelid = %(oid)s AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum"""

_FOREIGN_KEYS = """
    SELECT c.conname, a.attname, n.nspname, r.relname, f.attname
    FROM pg_constraint c JOIN pg_class r ON r.oid = c.confrelid JOIN pg_namespace n ON n.oid = r.relnamespace
    JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = c.conkey[1]
    JOIN pg_attribute f ON f.attrelid = c.confrelid AND f.attnum = c.confkey[1]
    WHERE c.conrelid = %s AND c.contype = 'f' AND cardinality(c.conkey) = 1 AND c.confrelid <> c.conrelid
      AND c.conparentid = 0
    ORDER BY 1"""


def source(connection: Connection, name: Name) -> SourceTable:
    """As `Rehearsing.source`."""
    found, _ = catalogue.whole(connection, catalogue.relation(connection, name))
    shape = read_shape(connection, name)
    statistics = catalogue.column_statistics(connection, found)
    if found.rows is None or (found.rows > 0 and not statistics):
        raise ServerError(
            f"nothing is known of the rows of {found.spelling}",
            found="it has never been analysed, or the role may not read its columns' statistics",
            fix=f"run ANALYZE {found.spelling}, or GRANT SELECT ON {found.spelling} TO the role",
        )
    given = {"oid": found.identity, "schema": found.name.schema, "table": found.name.table}
    types = connection.execute(_TYPES, {**given, "inherited": found.is_partitioned}).fetchall()
    foreign = connection.execute(_FOREIGN_KEYS, [found.identity]).fetchall()
    unique = {
        columns[0]
        for columns in (
            *(each.columns for each in shape.constraints if each.is_key),
            *(each.columns for each in shape.indexes if each.is_unique and " WHERE " not in each.definition),
        )
        if len(columns) == 1
    }
    columns, facts, notes, made_types = [], [], [], []
    for column, row in zip(shape.columns, types, strict=True):
        (_, typtype, base, labels, schema, type_name, width, element, category) = row
        spelled = base or column.type_name
        if typtype == "e":
            spelled = f"{identifier(schema)}.{identifier(type_name)}"
            made_types.append(EnumerationFacts(Name(schema, type_name), tuple(labels)))
        elif not can_encode(spelled, element if category == "A" else 0):
            notes.append(f"{column.name} is {spelled} in the real table, and text here")
            spelled = "text"
        if base:
            notes.append(f"{column.name} is of the domain {column.type_name}, and {spelled} here")
        columns.append(_bare(column, spelled))
        if column.generated is not None:
            continue
        known = statistics.get(column.name)
        if base and known is not None:
            known = _as_kind(known, kind_of(spelled))
        facts.append(
            ColumnFacts(
                name=column.name,
                type_name=spelled if category != "A" or spelled == "text" else f"{spelled}#{element}",
                kind=kind_of(spelled),
                width=width,
                not_null=column.not_null,
                is_unique=column.name in unique,
                statistics=known,
                labels=tuple(labels),
            )
        )
    if checks := [each.name for each in shape.constraints if each.kind == "c"]:
        notes.append(f"without the checks {', '.join(checks)}: made-up rows need not fulfil them")
    return SourceTable(
        name=found.name,
        shape=_simple(shape, tuple(columns)),
        columns=tuple(facts),
        rows=found.rows,
        bytes=found.heap_bytes + found.toast_bytes + found.index_bytes,
        foreign_keys=tuple(
            ForeignKeyFacts(key, column, Name(schema, table), referenced)
            for key, column, schema, table, referenced in foreign
        ),
        notes=tuple(notes),
        types=tuple(dict.fromkeys(made_types)),
    )


def _as_kind(statistics: ColumnStatistics, kind: Kind) -> ColumnStatistics:
    """The statistics of a domain's column, with the values of the type below it."""

    def read(value: Value) -> Value:
        return parse_value(value.text, kind) if isinstance(value, Opaque) else value

    return ColumnStatistics(
        name=statistics.name,
        null_share=statistics.null_share,
        distinct=statistics.distinct,
        common=tuple((read(value), share) for value, share in statistics.common),
        histogram=tuple(map(read, statistics.histogram)),
        correlation=statistics.correlation,
    )


_GENERIC_COLLATION = re.compile(r'"?(C|POSIX|default)"?')


def _bare(column: Column, type_name: str) -> Column:
    """Without what belongs to the real database: defaults that call anything, collations it may not have."""
    collation = column.collation if column.collation and _GENERIC_COLLATION.fullmatch(column.collation) else None
    return replace(
        column,
        type_name=type_name,
        default=None,
        collation=collation,
        comment=None,
        identity="d" if column.identity else "",
        not_null_name=None,
    )


def _simple(shape: Shape, columns: tuple[Column, ...]) -> Shape:
    kept = tuple(_undeferred(each) for each in shape.constraints if each.is_key)
    return replace(
        shape,
        columns=columns,
        constraints=kept,
        grants=(),
        sequences=(),
        tablespace=None,
        granted_by_default=(),
        comment=None,
        obstacles=(),
    )


def _undeferred(constraint: Constraint) -> Constraint:
    return replace(constraint, definition=re.sub(r" USING INDEX TABLESPACE .*$", "", constraint.definition))
