"""The server families that are known, and which of them a DSN belongs to."""

from typing import TYPE_CHECKING

from slabrow.core.values.errors import UsageError
from slabrow.servers.postgresql.family import Postgres

if TYPE_CHECKING:
    from slabrow.core.values.errors import SlabrowError
    from slabrow.servers.protocols import Family, Session

FAMILIES: "tuple[Family, ...]" = (Postgres(),)


def family_of(dsn: str) -> "Family":
    """By the scheme of the DSN; the first family for one without a scheme, which follows its client's conventions.

    Raises UsageError for a scheme that no family has.
    """
    scheme, colon, _ = dsn.partition("://")
    if not colon:
        return FAMILIES[0]
    for family in FAMILIES:
        if scheme in family.traits.schemes:
            return family
    usual = " or ".join(f"{family.traits.schemes[0]}://" for family in FAMILIES)
    raise UsageError("the DSN belongs to no known server family", fix=f"begin it with {usual}")


def open_session(dsn: str) -> "Session":
    """A session of the family that the DSN belongs to. Raises UsageError and ServerError as `Family.open` does."""
    return family_of(dsn).open(dsn)


def worded(error: Exception) -> "SlabrowError | None":
    """An error of any family's driver in Slabrow's words; None for other errors."""
    return next((found for family in FAMILIES if (found := family.worded(error)) is not None), None)
