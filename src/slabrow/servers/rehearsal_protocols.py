"""What a server family does for a rehearsal: describes real tables, makes tables of made-up rows, counts, plays."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from slabrow.core.rehearsal.fresh_values import PlayedRun
    from slabrow.core.rehearsal.made_up_table import EnumerationFacts, MadeUpTable, MadeValues, SourceTable
    from slabrow.core.rehearsal.outcome import ServerCounters
    from slabrow.core.upkeep.elsewhere import Elsewhere
    from slabrow.core.values.key_values import Value
    from slabrow.core.values.names import Name


class Rehearsing(Protocol):
    """Rehearsals in one session."""

    def source(self, table: Name) -> SourceTable:
        """What the catalogue and the statistics tell of a table; no row is read. Call it within `reading`.

        Raises ServerError when it was never analysed.
        """

    def used_by_others(self) -> tuple[str, ...]:
        """Some tables of the database that no rehearsal has made."""

    def usual_schemas(self) -> tuple[str, ...]:
        """Schemas that every new database of this family has, for tables of anybody."""

    def remove_remains(self) -> None:
        """Takes away the schemas that rehearsals have made in this database, and only those."""

    def claim_schema(self, name: str) -> None:
        """Makes a schema that `remove_remains` will know. Raises Refusal when there is one of that name."""

    def make(self, table: MadeUpTable, places: Mapping[Name, Name], tell: Callable[[float], None]) -> tuple[str, ...]:
        """Makes a table with all its made-up rows, keys and indexes, and analyses it.

        places where each table of the source goes
        tell   hears the share that is done
        Returns what could not be made as in the source, in words.
        """

    def counters(self) -> ServerCounters:
        """What the server has counted of this database."""

    def settle(self, table: Name) -> None:
        """Brings a table that was just filled into the state of one that was vacuumed; it is analysed already."""

    def settle_all(self) -> None:
        """As `settle`, with all tables of the database; they are analysed too."""

    def know_servers(self, others: Sequence[Elsewhere]) -> None:
        """Makes partitions on other servers possible in this database, for the role of this session.

        Raises ServerError when the server cannot have such.
        """

    def make_types(self, types: Iterable[EnumerationFacts]) -> None:
        """Those that are not there yet."""

    def set_aside(self, table: Name, old: Name) -> None:
        """A plain table takes another name, so that a partitioned one can be made under its own."""

    def fill(self, table: Name, old: Name) -> None:
        """Puts all rows of a table into another one with the same columns, and analyses that."""

    def rewind(self, table: Name, old: Name) -> None:
        """The old table of a conversion takes its name back; the new one is dropped."""

    def insertion(self, name: Name, made: Sequence[MadeValues]) -> tuple[PlayedRun, ...]:
        """A statement for each new row: an INSERT with its values as parameters."""

    def removal(self, name: Name, column: str, before: Value) -> tuple[str, ...]:
        """The statements that retire rows from a table that cannot drop them: a DELETE, and a VACUUM."""

    def play(self, run: PlayedRun) -> None:
        """Sends a statement and takes its rows in. One with parameters is prepared the first time."""

    def set_zone(self, zone: str) -> None:
        """The session's time zone."""

    def total_bytes(self, tables: Iterable[Name]) -> int:
        """Of tables with all their partitions and indexes."""
