"""The differences between server families that are plain values."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class FamilyTraits:
    """What a family is called, speaks and allows.

    name         as people write it
    schemes      of the DSNs that belong to it, the usual one first
    dialect      what the SQL parser calls its SQL
    name_limit   the longest name of a table
    oldest       the oldest major version that is tested
    estimates    a sentence: where rows and values come from that nobody counted
    values_from  where values come from beside counted rows
    analyse      the statement that takes a table's statistics, with {} for its spelling
    """

    name: str
    schemes: tuple[str, ...]
    dialect: str
    name_limit: int
    oldest: int
    estimates: str
    values_from: str
    analyse: str
