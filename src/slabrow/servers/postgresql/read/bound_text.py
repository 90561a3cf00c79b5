"""Reads the bounds of a partition from the text that the catalogue gives: pg_get_expr(relpartbound)."""

import re
from collections.abc import Iterator
from functools import lru_cache

from slabrow.core.table.bounds import Bounds, CatchAll, Hashed, Listed, Range, normal_end
from slabrow.core.values.errors import ServerError
from slabrow.core.values.key_values import Edge, Kind, Value, parse_value

# Most bounds by far, and there may be ten thousand of them: one column, no quote within a quoted value.
_SIMPLE = re.compile(r"FOR VALUES FROM \((?:'([^']*)'|([^',]+))\) TO \((?:'([^']*)'|([^',]+))\)")
_RANGE = re.compile(r"FOR VALUES FROM \((.*)\) TO \((.*)\)", re.DOTALL)
_LIST = re.compile(r"FOR VALUES IN \((.*)\)", re.DOTALL)
_HASH = re.compile(r"FOR VALUES WITH \(modulus (\d+), remainder (\d+)\)")
_TOKEN = re.compile(r"\s*(?:'((?:[^']|'')*)'|([^,']+))\s*(?:,|$)")


@lru_cache(maxsize=16_384)
def parse_bounds(text: str, kinds: tuple[Kind, ...]) -> Bounds:
    """Bounds for a key of these kinds. The text must come from a session in UTC with ISO dates.

    Raises ServerError when the server spells bounds in a way that is not known here.
    """
    if len(kinds) == 1 and (simple := _SIMPLE.fullmatch(text)):
        low, plain_low, high, plain_high = simple.groups()
        first = _known_end(low if plain_low is None else plain_low, plain_low is None, kinds[0])
        last = _known_end(high if plain_high is None else plain_high, plain_high is None, kinds[0])
        return Range(normal_end((first,)), normal_end((last,)))
    if text == "DEFAULT":
        return CatchAll()
    if hashed := _HASH.fullmatch(text):
        return Hashed(int(hashed.group(1)), int(hashed.group(2)))
    if listed := _LIST.fullmatch(text):
        return Listed(tuple(_value(token, quoted, kinds[0]) for token, quoted in _tokens(listed.group(1))))
    # `TO (` may stand inside a text bound as well; then the halves do not have a value for each column.
    if ranged := _RANGE.fullmatch(text):
        for split in re.finditer(r"\) TO \(", text):
            halves = text[len("FOR VALUES FROM (") : split.start()], text[split.end() : -1]
            ends = [list(_tokens(half)) for half in halves]
            if all(len(end) == len(kinds) for end in ends):
                from_, to = (
                    tuple(_end(token, quoted, kind) for (token, quoted), kind in zip(end, kinds, strict=True))
                    for end in ends
                )
                return Range(normal_end(from_), normal_end(to))
        raise ServerError("the bounds of a partition cannot be read", found=ranged.group(0))
    raise ServerError("the bounds of a partition cannot be read", found=text)


def _tokens(text: str) -> Iterator[tuple[str, bool]]:
    """Constants of a comma-separated list, each with whether it was quoted. Stops where the list makes no sense."""
    at = 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            return
        quoted, plain = match.groups()
        yield (quoted.replace("''", "'"), True) if quoted is not None else (plain.strip(), False)
        at = match.end()


def _value(token: str, quoted: bool, kind: Kind) -> Value | None:
    return None if not quoted and token == "NULL" else parse_value(token, kind)


@lru_cache(maxsize=4_096)
def _known_end(token: str, quoted: bool, kind: Kind) -> Value:
    """As `_end`: where one partition ends, the next one begins."""
    return _end(token, quoted, kind)


def _end(token: str, quoted: bool, kind: Kind) -> Value:
    if not quoted and token in ("MINVALUE", "MAXVALUE"):
        return Edge[token]
    return parse_value(token, kind)
