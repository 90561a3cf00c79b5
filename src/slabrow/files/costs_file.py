"""Reads and writes the constants of the cost model: TOML, one `[costs]` table, milliseconds."""

import tomllib
from dataclasses import asdict
from pathlib import Path

from slabrow.core.values.errors import UsageError, nearest
from slabrow.core.weighing.costs import Costs
from slabrow.files.reading import read_text, toml_document
from slabrow.files.writing import write_file


def read_costs(path: Path) -> Costs:
    """Raises UsageError for an unknown name or a value that is no number; names that are missing keep their default."""
    text = read_text(path, "costs file", "--costs")
    try:
        given = toml_document(text).get("costs")
    except tomllib.TOMLDecodeError as error:
        raise UsageError(
            f"{path} is not valid TOML",
            found=str(error),
            fix="correct that place, or measure the costs anew with --calibrate",
        ) from None
    if not isinstance(given, dict):
        raise UsageError(f"{path} has no [costs]", fix="`slabrow weigh --calibrate --costs FILE` writes one")
    known = {name: value for name, value in asdict(Costs()).items() if name != "places"}
    places = given.pop("places", {})
    if not isinstance(places, dict) or not all(_is_number(value) and value > 0 for value in places.values()):
        raise UsageError(
            f"{path}: `places` needs a number above 0 for each place",
            found=f"places = {places!r}",
            fix="write how many times as long a block takes there: places = { cold = 4 }",
        )
    for name, value in given.items():
        if name not in known:
            near = nearest(name, (*known, "places"))
            raise UsageError(f"{path}: `{name}` is not a cost", fix=f"did you mean `{near}`?" if near else None)
        if not _is_number(value) or not 0 <= value < 1e6:
            raise UsageError(f"{path}: `{name}` is {value!r}", fix="write milliseconds, such as 0.02")
    slow = tuple((name, float(value)) for name, value in places.items())
    return Costs(**{**known, **{name: float(value) for name, value in given.items()}, "places": slow})


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def write_costs(path: Path, costs: Costs, source: str) -> None:
    """source: what was measured, as a comment."""
    lines = [f"# Measured on {source}, in milliseconds; see docs/costs.md.", "[costs]"]
    numbers = {name: value for name, value in asdict(costs).items() if name != "places"}
    lines += [f"{name} = {value:.9f}".rstrip("0") + ("0" if value == int(value) else "")
              for name, value in numbers.items()]  # fmt: skip
    write_file(path, "\n".join(lines) + "\n")
