"""Sets of values of one column: NULL, and spans between two places of an order. Pure algebra."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class Span:
    """From low to high; None: open. Values of one column compare with each other."""

    low: Any = None
    low_in: bool = False
    high: Any = None
    high_in: bool = False

    @property
    def is_point(self) -> bool:
        """Whether it is one value."""
        return self.low is not None and self.low == self.high and self.low_in and self.high_in

    @property
    def is_empty(self) -> bool:
        """Whether nothing lies between its ends."""
        if self.low is None or self.high is None:
            return False
        if self.low == self.high:
            return not (self.low_in and self.high_in)
        return bool(self.low > self.high)


EVERY_VALUE = Span()


@dataclass(frozen=True, slots=True)
class Values:
    """has_null: whether NULL is among them; spans: without overlaps need not be."""

    has_null: bool = False
    spans: tuple[Span, ...] = field(default=())

    @property
    def is_empty(self) -> bool:
        """Whether nothing is in it."""
        return not self.has_null and not self.spans

    @property
    def points(self) -> list[Any] | None:
        """Its values, None for NULL among them; None when one of its spans is no point."""
        if not all(span.is_point for span in self.spans):
            return None
        return [*([None] if self.has_null else []), *(span.low for span in self.spans)]

    def both(self, other: "Values") -> "Values":
        """What is in both."""
        found = [_both(one, two) for one in self.spans for two in other.spans]
        return Values(self.has_null and other.has_null, tuple(span for span in found if not span.is_empty))

    def either(self, other: "Values") -> "Values":
        """What is in one of them."""
        return Values(self.has_null or other.has_null, united((*self.spans, *other.spans)))


def _both(one: Span, two: Span) -> Span:
    low, low_in = one.low, one.low_in
    if low is None or (two.low is not None and (two.low > low or (two.low == low and not two.low_in))):
        low, low_in = two.low, two.low_in
    high, high_in = one.high, one.high_in
    if high is None or (two.high is not None and (two.high < high or (two.high == high and not two.high_in))):
        high, high_in = two.high, two.high_in
    return Span(low, low_in, high, high_in)


def united(spans: Sequence[Span]) -> tuple[Span, ...]:
    """The same values, spans that meet made one."""
    opens = [span for span in spans if span.low is None]
    rest = sorted((span for span in spans if span.low is not None), key=lambda span: (span.low, not span.low_in))
    found: list[Span] = []
    for span in [*opens, *rest]:
        if found and _meets(found[-1], span):
            last = found[-1]
            if last.high is not None and (
                span.high is None or span.high > last.high or (span.high == last.high and span.high_in)
            ):
                found[-1] = Span(last.low, last.low_in, span.high, span.high_in)
            continue
        found.append(span)
    return tuple(found)


def _meets(last: Span, span: Span) -> bool:
    if last.high is None or span.low is None:
        return True
    return bool(last.high > span.low or (last.high == span.low and (last.high_in or span.low_in)))
