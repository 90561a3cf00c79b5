"""The parameters $1, $2, … of a statement, found without parsing it."""

import re
from collections.abc import Callable

_STRINGS = re.compile(
    r"""('(?:[^']|'')*'|"(?:[^"]|"")*"|\$(?:[^\W\d]\w*)?\$.*?\$(?:[^\W\d]\w*)?\$|--[^\n]*|/\*.*?\*/)""", re.DOTALL
)
_PARAMETER = re.compile(r"(?<![\w$])\$(\d+)")


def outside_strings(sql: str) -> list[str]:
    """The parts of a statement between its literals, quoted names and comments."""
    return _STRINGS.split(sql)[::2]


def parameters_in(sql: str) -> frozenset[int]:
    """The numbers of the parameters $1, $2, … that a statement has."""
    return frozenset(int(number) for part in outside_strings(sql) for number in _PARAMETER.findall(part))


def with_parameters(sql: str, instead: Callable[[int], str]) -> str:
    """The statement with other words in the place of each parameter."""
    parts = _STRINGS.split(sql)
    parts[::2] = [_PARAMETER.sub(lambda found: instead(int(found.group(1))), part) for part in parts[::2]]
    return "".join(parts)
