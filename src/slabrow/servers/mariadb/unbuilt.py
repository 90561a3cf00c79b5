"""What this family cannot do yet: said in one sentence, and nothing is half done."""

from typing import NoReturn

from slabrow.core.values.errors import Refusal


def nothing_elsewhere() -> Refusal:
    """The error for a partition on another server, which this family does not have."""
    return Refusal(
        "MariaDB keeps all partitions of a table on one server",
        fix="leave out --elsewhere, and `servers` and `elsewhere` in the layout file",
    )


def unbuilt(what: str) -> NoReturn:
    """Raises Refusal. what: as in `convert a table`."""
    raise Refusal(f"Slabrow cannot {what} on MariaDB yet", fix="see docs/guide/mariadb.md for what it can do there")
