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
_OTHERS = ("time", "bit", "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "set", "json", "inet6",
           "inet4")  # fmt: skip
BYTES = ("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "geometry")


def stored_type(column_type: str) -> str:
    """Without the display width of whole numbers, which says nothing of the values: `bigint(20) unsigned`.

    >>> stored_type("bigint(20) unsigned")
    'bigint unsigned'
    """
    return _DISPLAY_WIDTH.sub(r"\1", column_type)


def kind_of_type(type_name: str) -> Kind:
    """The kind of a type's values; `other` for those that have no order here."""
    return _KINDS.get(bare_type(type_name), Kind.OTHER)


def bare_type(type_name: str) -> str:
    """A type without what stands behind its first word.

    >>> bare_type("bigint unsigned"), bare_type("decimal(8,2)")
    ('bigint', 'decimal')
    """
    return re.split(r"[\s(]", type_name.strip(), maxsplit=1)[0].lower()


def is_known_type(text: str) -> bool:
    """Whether a text begins with a type that columns of tables can have."""
    return bare_type(text) in _KINDS or bare_type(text) in _OTHERS
