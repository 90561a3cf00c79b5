"""The server families that are known, and which of them a DSN belongs to."""

from typing import TYPE_CHECKING

from slabrow.core.values.errors import UsageError
from slabrow.servers.mariadb.family import Maria
from slabrow.servers.postgresql.family import Postgres

if TYPE_CHECKING:
    from slabrow.core.values.errors import SlabrowError
    from slabrow.servers.protocols import Family, Session

FAMILIES: "tuple[Family, ...]" = (Postgres(), Maria())


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


def family_named(name: str) -> "Family":
    """By its name, however it is written. Raises UsageError for a name that no family has."""
    for family in FAMILIES:
        if family.traits.name.lower() == name.lower():
            return family
    known = ", ".join(family.traits.name.lower() for family in FAMILIES)
    raise UsageError(f"there is no server family {name[:40]!r}", fix=f"families: {known}")


def family_that_hashes(by: str, name: str | None, dsn: str) -> "Family":
    """The family that was named, or whose server was; else the first that has such hash partitions.

    by   as in `HashAsked.by`. Raises UsageError when there is none, or the family has none such.
    """
    if name is not None or dsn:
        family = family_named(name) if name is not None else family_of(dsn)
        if by in family.hashings.ways or name is None:
            chosen = family if by in family.hashings.ways else None
            return chosen or family_that_hashes(by, None, "")
        raise UsageError(
            f"{family.traits.name} has no partitions by {by}", fix=f"--by {' or '.join(family.hashings.ways)}"
        )
    for family in FAMILIES:
        if by in family.hashings.ways:
            return family
    raise UsageError(f"no server has partitions by {by}")


def open_session(dsn: str) -> "Session":
    """A session of the family that the DSN belongs to. Raises UsageError and ServerError as `Family.open` does."""
    return family_of(dsn).open(dsn)


def worded(error: Exception) -> "SlabrowError | None":
    """An error of any family's driver in Slabrow's words; None for other errors."""
    return next((found for family in FAMILIES if (found := family.worded(error)) is not None), None)
