"""The types of columns as the server spells them, and the kinds of their values."""

import re

from slabrow.core.values.key_values import Kind

_DISPLAY_WIDTH = re.compile(r"\b(tinyint|smallint|mediumint|int|bigint|year)\(\d+\)")
_KINDS = {
    **dict.fromkeys(("tinyint", "smallint", "mediumint", "int", "bigint", "year"), Kind.INTEGER),
    **dict.fromkeys(("decimal", "float", "double"), Kind.NUMERIC),
    "date": Kind.DATE,
    "datetime": Kind.TIMESTAMP,
    "timestamp": Kind.TIMESTAMPTZ,
    **dict.fromkeys(("char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum"), Kind.TEXT),
    "uuid": Kind.UUID,
}


def stored_type(column_type: str) -> str:
    """Without the display width of whole numbers, which says nothing of the values: `bigint(20) unsigned`.

    >>> stored_type("bigint(20) unsigned")
    'bigint unsigned'
    """
    return _DISPLAY_WIDTH.sub(r"\1", column_type)


def kind_of_type(type_name: str) -> Kind:
    """The kind of a type's values; `other` for those that have no order here."""
    bare = re.split(r"[\s(]", type_name, maxsplit=1)[0].lower()
    return _KINDS.get(bare, Kind.OTHER)
