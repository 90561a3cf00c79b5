"""The methods of partitioning. Apart from layouts, which few modules need and which take longer to load."""

from enum import StrEnum


class By(StrEnum):
    """How a table is divided, as the server's PARTITION BY spells it."""

    RANGE = "range"
    LIST = "list"
    HASH = "hash"
