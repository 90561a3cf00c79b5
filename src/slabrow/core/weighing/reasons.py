"""Says what a ranking means, as an adviser would: the answer first, then why, and what it costs."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from math import inf

from slabrow.core.statistics.glance import SMALL
from slabrow.core.values.method import By
from slabrow.core.values.wording import count, milliseconds, share, size
from slabrow.core.weighing.weighed import ShapeCost, Weighed
from slabrow.core.weighing.weighing import Weigher

_NEARLY_ALL = 0.9  # of the queries
_LONG_FIRST_MS = 50.0  # of a first statement, from which on it is worth a word


@dataclass(frozen=True, slots=True)
class Adviser:
    """The words about one ranking."""

    weigher: Weigher
    winner: Weighed
    now: Weighed
    ranked: Sequence[Weighed]

    def answer(self) -> Iterator[str]:
        """Partition or not, by what, how many; what is gained; what it costs. The lines that are read first."""
        winner, now, facts = self.winner, self.now, self.weigher.facts
        if winner.layout is None:
            best = next((each for each in self.ranked if each.layout is not None), None)
            has = "" if now.partitions == 1 else f" with its {count(now.partitions)} partitions"
            yield f"Leave {facts.spelling} as it is{has}."
            if best is None:
                yield "No column that the workload asks for can be a partition key."
            else:
                yield f"The best layout, {best.layout}, would {_change(now.ms, best.ms)}."
            return
        several = f"{count(winner.partitions)} partitions, the largest {size(winner.largest)}"
        first = f"Partition by {winner.layout}: {several}"
        if self._is_small:
            first = f"The table is small: leave it, unless it will grow. The best layout is {winner.layout}: {several}"
        if (every := winner.every_share) >= _NEARLY_ALL:
            first += f". But {share(every)} of the queries touch every one of them: it is no key that they ask for"
        yield first + "."
        gain = f"It would {_change(now.ms, winner.ms)}: {milliseconds(winner.ms)} for {milliseconds(now.ms)}"
        if now.all_reads >= 1:
            gain += f", with {share(winner.all_reads / now.all_reads)} of the blocks that come from the disk today"
        yield gain + "."
        if self.weigher.keeps and winner.retiring.is_dropping and not now.retiring.is_dropping:
            yield (
                f"Old rows leave by dropping partitions: {milliseconds(winner.retire_ms)} a day instead of "
                f"{milliseconds(now.retire_ms)} of DELETE and VACUUM, {size(winner.retiring.wal_bytes)} of WAL instead "
                f"of {size(now.retiring.wal_bytes)}."
            )
        costs = list(winner.obstacles[:1])
        slower = [cost for cost, gain in _gains(winner, now) if gain < 0 and self._is_slower(cost)]
        if slower:
            runs = sum(cost.read.shape.weight for cost in slower)
            what = "1 kind of statement gets" if len(slower) == 1 else f"{count(len(slower))} kinds of statement get"
            costs.append(f"{what} slower, {count(runs)} runs a day")
        yield (
            "What it costs: "
            + ("; ".join(costs) if costs else "the conversion, and the upkeep of the partitions")
            + "."
        )

    def reasons(self) -> Iterator[str]:
        """Why the first wins."""
        winner, now, facts = self.winner, self.now, self.weigher.facts
        if winner.layout is None:
            yield from self._reasons_to_stay()
            return
        took, takes = milliseconds(now.ms), milliseconds(winner.ms)
        yield f"a day's work takes {takes} instead of {took}, {share(winner.ms / now.ms if now.ms else 1.0)} of it"
        if now.all_reads >= 1:
            part = winner.all_reads / now.all_reads
            yield (
                f"{count(winner.all_reads)} blocks a day come from the disk instead of {count(now.all_reads)}, "
                f"{share(part)}; it visits {share(winner.read_share)} of the blocks"
            )
        else:
            yield (f"it visits {share(winner.read_share)} of the blocks that the table as it is visits, all in memory")
        one = sum(cost.read.shape.weight for cost in winner.shapes if cost.read.runs and cost.touched <= 1.0)
        weight = sum(cost.read.shape.weight for cost in winner.shapes if cost.read.runs) or 1.0
        yield (
            f"{share(one / weight)} of the queries touch one partition of {winner.partitions}, "
            f"95 % at most {winner.touched_p95:g}"
        )
        seen = facts.statistics.get(winner.layout.key[0])
        is_hashed = By.HASH in (winner.layout.by, winner.layout.within and winner.layout.within.by)
        if is_hashed and len(winner.layout.key) == 1 and seen is not None and (seen.distinct or 0) > 50:
            values = f"{seen.distinct:,.0f} values"
            yield f"a partition for each of its {values} would be too many; hashed, they share a few"
        if self.weigher.keeps and winner.retiring.is_dropping:
            yield "old rows leave by dropping partitions instead of deleting row by row"
            if not now.retiring.is_dropping and now.retiring.written >= 1:
                yield (
                    f"DELETE and VACUUM write {count(now.retiring.written)} blocks a day; the file does not shrink, "
                    "and new rows that fill it from the front break the order in which its rows lie"
                )
        gains = sorted(_gains(winner, now), key=lambda pair: -pair[1])[:2]
        for cost, gain in gains:
            if gain > 0.02 * now.ms:
                yield f"the most is gained by {cost.read.shape.name}: {milliseconds(gain)} a day"

    @property
    def _is_small(self) -> bool:
        """Whether all of the table is found in memory, and little of it."""
        facts = self.weigher.facts
        return facts.bytes < SMALL and facts.bytes <= facts.cache_bytes

    def _reasons_to_stay(self) -> Iterator[str]:
        now, facts = self.now, self.weigher.facts
        best = next((each for each in self.ranked if each.layout is not None), None)
        if self._is_small:
            yield f"the table is small: {size(facts.bytes)} are found in memory and through its indexes"
        if best is None:
            yield "no column that the workload asks for can be a partition key"
            return
        yield f"the best layout, {best.layout}, would {_change(now.ms, best.ms)}: no reason to convert"
        missed = _missing(best)
        weight = sum(cost.read.shape.weight for cost in best.shapes if cost.read.runs) or 1.0
        if missed:
            all_leaves = sum(cost.read.shape.weight for cost in missed) / weight
            yield f"{share(all_leaves)} of the queries would have to look into every partition of it"

    def price(self) -> Iterator[str]:
        """What the first takes."""
        winner, now, facts = self.winner, self.now, self.weigher.facts
        if winner.layout is None:
            return
        if self._is_small:
            gained = milliseconds(now.ms - winner.ms)
            yield (
                f"the table is small, {size(facts.bytes)}: all this gains {gained} a day, "
                "and may not be worth a conversion"
            )
        if self.weigher.keeps and not winner.retiring.is_dropping:
            yield (
                f"old rows cannot leave as a whole under {winner.layout.by}: they lie in every partition, and have to "
                "be deleted row by row"
            )
        yield from winner.obstacles
        before = {cost.read.shape.name: cost for cost in now.shapes}
        losses = sorted(_gains(winner, now), key=lambda pair: pair[1])[:3]
        for cost, gain in losses:
            old = before[cost.read.shape.name].paid.ms
            if gain < 0 and self._is_slower(cost):
                why = f"it touches {cost.touched:g} partitions" if cost.touched > 1 else "planning takes longer"
                yield (
                    f"{cost.read.shape.name} gets slower, {milliseconds(old)} to {milliseconds(cost.paid.ms)}, "
                    f"{cost.read.shape.weight:,.0f} times a day: {why}"
                )
        missed = _missing(winner)
        if missed:
            names = ", ".join(cost.read.shape.name for cost in missed[:4])
            names += " and others" if len(missed) > 4 else ""
            weight = sum(cost.read.shape.weight for cost in missed)
            shapes = "1 shape does" if len(missed) == 1 else f"{len(missed)} shapes do"
            reads = "reads" if len(missed) == 1 else "read"
            yield f"{shapes} not use the key and {reads} every partition, {weight:,.0f} times a day: {names}"
        if winner.first_ms >= _LONG_FIRST_MS:
            yield (
                f"the first statement of a new connection takes about {milliseconds(winner.first_ms)} where it meets "
                "every partition, until their catalog rows are in its cache: keep connections open"
            )

    def _is_slower(self, cost: ShapeCost) -> bool:
        before = next(each for each in self.now.shapes if each.read is cost.read)
        return bool(cost.read.runs) and cost.paid.ms > 1.05 * before.paid.ms


def other_winners(ranked: Sequence[Weighed]) -> tuple[tuple[str, Weighed], ...]:
    """The layouts that win by another measure than the cost of a day, each once."""
    layouts = [each for each in ranked if each.layout is not None]
    if len(layouts) < 2:
        return ()
    found: dict[int, tuple[list[str], Weighed]] = {}
    keeps = any(each.retiring.is_dropping for each in layouts)
    measures = [
        ("the fewest blocks", lambda each: (each.all_reads, each.blocks, each.partitions)),
        ("the least planning", lambda each: (each.planning_ms, each.ms)),
        *([("the cheapest retirement", lambda each: (each.retire_ms, each.ms))] if keeps else []),
        ("the smallest largest partition", lambda each: (each.largest, each.ms)),
    ]
    for words, measure in measures:
        best = min(layouts, key=measure)
        if best is not ranked[0]:
            found.setdefault(id(best), ([], best))[0].append(words)
    return tuple((", ".join(words), best) for words, best in found.values())


def when_second_wins(winner: Weighed, second: Weighed) -> str:
    """The one change in the workload that would turn the ranking, in words."""
    name = str(second.layout) if second.layout is not None else "leaving the table as it is"
    lead = second.ms - winner.ms
    best: tuple[float, str, float] = (inf, "", 0.0)
    for cost, other in zip(winner.shapes, second.shapes, strict=True):
        gain = (cost.paid.ms - other.paid.ms) * cost.read.shape.weight
        if gain > 0 and lead > 0:
            factor = 1 + lead / gain
            best = min(best, (factor, cost.read.shape.name, cost.read.shape.weight))
    if lead <= 0:
        return f"{name} takes {share(-lead / winner.ms)} less in the model: too little for what a change costs"
    if best[0] == inf:
        return f"no change of the workload makes {name} win"
    times = f"{best[0]:.1f}" if best[0] < 10 else count(best[0])
    return f"{name} would win if {best[1]} ran {times} times more often than its {count(best[2])} runs a day"


def _change(before: float, after: float) -> str:
    """`take 12 % of the time for a day's work`, `take 5 % more …`."""
    if before <= 0:
        return "take no less time for a day's work"
    change = after / before - 1
    if change <= -0.5:
        return f"take {share(after / before)} of the time for a day's work"
    return f"take {share(abs(change))} {'less' if change < 0 else 'more'} time for a day's work"


def _missing(weighed: Weighed) -> list[ShapeCost]:
    """The shapes that touch every leaf, the weightiest first."""
    found = [cost for cost in weighed.shapes if cost.read.runs and cost.touched >= weighed.partitions > 1]
    return sorted(found, key=lambda cost: -cost.read.shape.weight)


def _gains(weighed: Weighed, now: Weighed) -> Iterator[tuple[ShapeCost, float]]:
    """Each shape with the milliseconds a day that it gains; below zero where it loses."""
    for cost, before in zip(weighed.shapes, now.shapes, strict=True):
        yield cost, (before.paid.ms - cost.paid.ms) * cost.read.shape.weight
