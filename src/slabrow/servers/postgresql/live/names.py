"""The passing names of tables, and of what belongs to them, while their own names belong to others."""

from slabrow.core.values.names import NAME_LIMIT, Name, fit

INCOMING = "_incoming"
BEFORE = "_before"


def passing(name: Name, suffix: str = INCOMING) -> Name:
    """The name of an object while its own name belongs to another."""
    return name.sibling(fit(name.table, suffix, NAME_LIMIT))


def incoming_name(table: Name) -> Name:
    """The new table, under its passing name."""
    return passing(table, INCOMING)
