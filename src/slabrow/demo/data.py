"""The demo's rows, in chunks of constant size: the same for the same number of readings, on every machine."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from slabrow.servers.postgresql.write.binary_copy import Array, Field, encode

BEGIN = datetime(2025, 1, 1, tzinfo=UTC)
END = datetime(2026, 3, 1, tzinfo=UTC)
DEFAULT_READINGS = 2_000_000
MOST_READINGS = 100_000_000
CHUNK = 200_000
COOPS = 240
_SEED = 20_250_101
_EPOCH = datetime(2000, 1, 1, tzinfo=UTC)  # the server counts its timestamps from here
_BEGIN_US = round((BEGIN - _EPOCH).total_seconds()) * 1_000_000
_LENGTH_US = round((END - BEGIN).total_seconds()) * 1_000_000
_BEGIN_DAY = (BEGIN - _EPOCH).days
_DAYS = (END - BEGIN).days

ZONES = ("A1", "A2", "C1", "C2", "C3", "H1")
_ZONE_SHARES = (0.22, 0.11, 0.31, 0.19, 0.12, 0.05)
_KINDS = ("harvest", "feeding", "treatment", "swarm", "sale")
_KIND_SHARES = (0.18, 0.34, 0.22, 0.04, 0.22)
_REMARKS = ("queen seen", "queen not seen", "brood patchy", "stores low", "supers added")
_SYLLABLES = ("lin", "ta", "mo", "ver", "al", "bru", "sen", "ko", "ria", "del", "fen", "hol")


@dataclass(frozen=True, slots=True)
class Table:
    """A table's columns in COPY's order, and its rows as binary COPY data without header and trailer."""

    name: str
    columns: str
    chunks: Iterator[bytes]
    rows: int = 0


@dataclass(frozen=True, slots=True)
class Demo:
    """The whole data set for a number of readings; the other tables grow with it."""

    readings: int = DEFAULT_READINGS

    @property
    def hives(self) -> int:
        """How many hives there are."""
        return max(200, min(40_000, self.readings // 1_000))

    @property
    def events(self) -> int:
        """How many events there are."""
        return max(1_000, self.readings // 4)

    @property
    def inspections(self) -> int:
        """How many inspections there are."""
        return max(1_000, self.readings // 20)

    def tables(self) -> Iterator[Table]:
        """In the order in which foreign keys allow them to be loaded."""
        yield Table("apiary.coop", "coop_id, name, hives", self._coops())
        yield Table("apiary.hive", "hive_id, coop_id, zone_code, founded", self._hives())
        yield Table(
            "apiary.reading",
            "reading_id, hive_id, taken_at, weight_kg, brood_c, humidity_pct, sound_db",
            self.readings_in_chunks(),
            self.readings,
        )
        yield Table("apiary.coop_event", "event_id, coop_id, occurred_at, kind, amount_kg", self._events(), self.events)
        yield Table(
            "apiary.inspection",
            "inspection_id, hive_id, zone_code, inspected_on, varroa_count, remark",
            self._inspections(),
            self.inspections,
        )

    def _coops(self) -> Iterator[bytes]:
        names = np.array([_coop_name(number) for number in range(COOPS)], "S24")
        yield encode([Field(np.arange(1, COOPS + 1, dtype=np.int32)), Field(names), Field(coop_sizes())])

    def _hives(self) -> Iterator[bytes]:
        chance = np.random.default_rng([_SEED, 1])
        zones = chance.choice(np.array(ZONES, "S2"), self.hives, p=_ZONE_SHARES)
        founded = _BEGIN_DAY - chance.integers(100, 3_000, self.hives, dtype=np.int32)
        yield encode(
            [
                Field(np.arange(1, self.hives + 1, dtype=np.int32)),
                Field(_coops_by_size(chance, self.hives)),
                Field(zones),
                Field(founded.astype(np.int32)),
            ]
        )

    def readings_in_chunks(self) -> Iterator[bytes]:
        """Readings in the order of their arrival: nearly that of their time, for some sensors send late."""
        for chance, ids in _chunks(self.readings, 2):
            rows = len(ids)
            # The federation grows: twice as many readings a day at the end as at the beginning.
            moved = (ids - 0.5) / self.readings
            when = _BEGIN_US + ((np.sqrt(1 + 3 * moved) - 1) * _LENGTH_US).astype(np.int64)
            late = chance.random(rows) < 0.002
            when -= np.where(late, chance.integers(0, 7_200_000_000, rows), 0)
            when = np.maximum(when, _BEGIN_US)
            season = np.cos((when - _BEGIN_US) / _LENGTH_US * 2 * np.pi * 14 / 12)
            brood = (34.5 + chance.normal(0, 0.6, rows) - 8 * np.maximum(season, 0)).astype(np.float32)
            yield encode(
                [
                    Field(ids),
                    Field(chance.integers(1, self.hives + 1, rows, dtype=np.int32)),
                    Field(when),
                    Field((38 - 14 * season + chance.normal(0, 4, rows)).astype(np.float32)),
                    Field(brood, chance.random(rows) < 0.03),
                    Field(np.clip(chance.normal(62, 9, rows), 5, 100).astype(np.int16)),
                    Field(np.clip(chance.normal(44, 6, rows), 20, 95).astype(np.float32)),
                ]
            )

    def _events(self) -> Iterator[bytes]:
        for chance, ids in _chunks(self.events, 3):
            rows = len(ids)
            when = _BEGIN_US + np.sort(chance.integers(0, _LENGTH_US, rows))
            kinds = chance.choice(np.array(_KINDS, "S9"), rows, p=_KIND_SHARES)
            yield encode(
                [
                    Field(ids),
                    Field(_coops_by_size(chance, rows)),
                    Field(when),
                    Field(kinds),
                    Field(chance.gamma(2, 8, rows).astype(np.float32)),
                ]
            )

    def _inspections(self) -> Iterator[bytes]:
        for chance, ids in _chunks(self.inspections, 4):
            rows = len(ids)
            zones = chance.choice(np.array(ZONES, "S2"), rows, p=_ZONE_SHARES)
            days = _BEGIN_DAY + np.sort(chance.integers(0, _DAYS, rows)).astype(np.int32)
            remarks = chance.choice(np.array(_REMARKS, "S14"), rows)
            yield encode(
                [
                    Field(ids),
                    Field(chance.integers(1, self.hives + 1, rows, dtype=np.int32)),
                    Field(zones),
                    Field(days.astype(np.int32)),
                    Field(chance.poisson(3, rows).astype(np.int16)),
                    Field(remarks, chance.random(rows) < 0.6),
                ]
            )


def coop_sizes() -> Array:
    """Hives of each cooperative, the largest first: from forty thousand down to three."""
    ranks = np.arange(1, COOPS + 1)
    sizes = 40_000 / ranks**1.75
    return np.maximum(3, np.round(sizes)).astype(np.int32)


def _coops_by_size(chance: np.random.Generator, rows: int) -> Array:
    sizes = coop_sizes()
    return chance.choice(np.arange(1, COOPS + 1, dtype=np.int32), rows, p=sizes / sizes.sum())


def _coop_name(number: int) -> str:
    first, second, third = number % 12, number // 12 % 12, (number * 7 + 3) % 12
    return (_SYLLABLES[first] + _SYLLABLES[second] + _SYLLABLES[third]).capitalize() + " apiaries"


def _chunks(total: int, stream: int) -> Iterator[tuple[np.random.Generator, Array]]:
    """Ids 1 to total in chunks, each with a generator of its own: a chunk does not depend on those before it."""
    for place, first in enumerate(range(0, total, CHUNK)):
        last = min(total, first + CHUNK)
        yield np.random.default_rng([_SEED, stream, place]), np.arange(first + 1, last + 1, dtype=np.int64)
