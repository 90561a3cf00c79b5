"""The one place where names and values become PostgreSQL text. Nothing else builds an identifier or a literal."""

import re

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range
from slabrow.core.values.key_values import Edge, Key, Value, spell
from slabrow.core.values.names import Name

# The reserved key words (PostgreSQL manual, appendix C), with those that are reserved only as function or type names.
_RESERVED_WORDS = """
    all analyse analyze and any array as asc asymmetric authorization between bigint binary bit boolean both case
    cast char character check coalesce collate collation column concurrently constraint create cross current_catalog
    current_date current_role current_schema current_time current_timestamp current_user dec decimal default
    deferrable desc distinct do else end except exists extract false fetch float for foreign freeze from full grant
    greatest group grouping having ilike in initially inner inout int integer intersect interval into is isnull join
    json json_array json_arrayagg json_exists json_object json_objectagg json_query json_scalar json_serialize
    json_table json_value lateral leading least left like limit localtime localtimestamp merge_action national
    natural nchar none normalize not notnull null nullif numeric offset on only or order out outer overlaps overlay
    placing position precision primary real references returning right row select session_user setof similar
    smallint some substring symmetric system_user table tablesample then time timestamp to trailing treat trim true
    union unique user using values varchar variadic verbose when where window with xmlattributes xmlconcat
    xmlelement xmlexists xmlforest xmlnamespaces xmlparse xmlpi xmlroot xmlserialize xmltable
"""
_RESERVED = frozenset(_RESERVED_WORDS.split())
_PLAIN = re.compile(r"[a-z_][a-z0-9_]*")


def identifier(name: str) -> str:
    """A name as SQL, quoted only where it must be. Raises ValueError on a NUL, which no name can hold.

    >>> identifier("reading"), identifier("Old Hives")
    ('reading', '"Old Hives"')
    """
    if "\0" in name:
        raise ValueError("a name cannot hold a NUL character")
    if _PLAIN.fullmatch(name) and name not in _RESERVED:
        return name
    return '"' + name.replace('"', '""') + '"'


def table(name: Name) -> str:
    """A table with its schema, where that is known."""
    return identifier(name.table) if name.schema is None else f"{identifier(name.schema)}.{identifier(name.table)}"


def columns(names: tuple[str, ...]) -> str:
    """Column names separated by commas."""
    return ", ".join(map(identifier, names))


def literal(text: str) -> str:
    """A text as a string constant, right whatever standard_conforming_strings says."""
    if "\0" in text:
        raise ValueError("a text constant cannot hold a NUL character")
    quoted = text.replace("'", "''")
    return "E'" + quoted.replace("\\", "\\\\") + "'" if "\\" in quoted else f"'{quoted}'"


def value(one: Value | None) -> str:
    """A key value as a constant; instants are written with their offset."""
    match one:
        case None:
            return "NULL"
        case Edge() if one in (Edge.MINVALUE, Edge.MAXVALUE):
            return one.name
        case bool():
            return "true" if one else "false"
        case int():
            return str(one)
        case _:
            return literal(spell(one))


def array(values: list[str], type_name: str) -> str:
    """Constants, already written as SQL, as an array of a type."""
    return f"ARRAY[{', '.join(values)}]::{type_name}[]"


def bounds(held: Bounds, width: int = 1) -> str:
    """Bounds as they stand after CREATE TABLE … PARTITION OF. width: how many key columns an open end must name."""
    match held:
        case Range():
            return f"FOR VALUES FROM ({_end(held.from_, 'MINVALUE', width)}) TO ({_end(held.to, 'MAXVALUE', width)})"
        case Listed():
            return f"FOR VALUES IN ({', '.join(map(value, held.values))})"
        case Hashed():
            return f"FOR VALUES WITH (MODULUS {held.modulus}, REMAINDER {held.remainder})"
        case CatchAll():
            return "DEFAULT"


def condition(held: Bounds, key: tuple[str, ...]) -> str:
    """The condition on the key columns that the rows of a partition satisfy.

    Raises ValueError for hash, for the catch-all, and for a range that a later key column bounds too.
    """
    leading = identifier(key[0])
    match held:
        case Range():
            tests = [f"{identifier(column)} IS NOT NULL" for column in key]
            for end, sign in ((held.from_, ">="), (held.to, "<")):
                if end is None or end[0] in (Edge.MINVALUE, Edge.MAXVALUE):
                    continue
                if any(each is not Edge.MINVALUE for each in end[1:]):
                    raise ValueError("a later key column bounds this range too")
                tests.append(f"{leading} {sign} {value(end[0])}")
            return " AND ".join(tests)
        case Listed(values=values):
            listed = [value(each) for each in values if each is not None]
            tests = [f"{leading} IN ({', '.join(listed)})"] if listed else []
            tests += [f"{leading} IS NULL"] if None in values else []
            return "(" + " OR ".join(tests) + ")"
        case _:
            raise ValueError("only the server knows which rows such a partition holds")


def _end(end: Key | None, if_open: str, width: int) -> str:
    return ", ".join([if_open] * width if end is None else map(value, end))
