"""What this family cannot do yet: said in one sentence, and nothing is half done."""

from typing import NoReturn

from slabrow.core.values.errors import Refusal


def unbuilt(what: str) -> NoReturn:
    """Raises Refusal. what: as in `convert a table`."""
    raise Refusal(f"Slabrow cannot {what} on MariaDB yet", fix="see docs/guide/mariadb.md for what it can do there")
