"""Keeps the server's own cleaning (autovacuum) away from new tables while rows are copied into them.

Once a minute it would read and write all new rows again, beside the copy, the index builds and the comparison: 8
million rows took 1.7 times as long. Cleaning is allowed again before the swap. Where a run is stopped for long, the
server still cleans the table before transaction numbers run out (PostgreSQL manual, 24.1.5).
"""

from collections.abc import Iterable, Iterator, Sequence

from slabrow.core.upkeep.statements import Statement
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting

STEP = "allow cleaning again"
_SETTINGS = ("autovacuum_enabled", "toast.autovacuum_enabled")


def _ours(options: Sequence[str]) -> tuple[str, ...]:
    """The settings that the tables do not have from their owner."""
    given = {option.partition("=")[0].strip().lower() for option in options}
    return tuple(each for each in _SETTINGS if each not in given)


def cleaning_off(tables: Iterable[Name], options: Sequence[str]) -> Iterator[Statement]:
    """For tables that nobody else uses yet. options: those that they were made with, as `name=value`."""
    said = ", ".join(f"{each} = false" for each in _ours(options))
    return (Statement(f"ALTER TABLE {quoting.table(name)} SET ({said})") for name in tables if said)


def cleaning_on(tables: Iterable[Name], options: Sequence[str]) -> Iterator[Statement]:
    """Takes back `cleaning_off`: the tables have the settings of their owner again."""
    said = ", ".join(_ours(options))
    return (Statement(f"ALTER TABLE {quoting.table(name)} RESET ({said})") for name in tables if said)
