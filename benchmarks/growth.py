"""How the time of each reader of files grows with the length of its text, where nothing in it ends or all of it repeats.

    python -m benchmarks.growth [LENGTH]

Shows the processor time of three lengths, each twice the one before. Linear is 1 : 2 : 4; it fails above 1 : 3 : 9.
"""

import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from slabrow.core.sql.lexing import called_in, names_in, operators_in
from slabrow.core.sql.parameters import read_literals
from slabrow.core.sql.statement_shapes import exact_shape_of, literals_of, marked
from slabrow.core.values.errors import SlabrowError
from slabrow.files.archive_file import read_manifest
from slabrow.files.layout_file import read_layouts
from slabrow.files.query_file import read_queries
from slabrow.files.server_log import read_log
from slabrow.files.value_file import read_keys
from slabrow.servers.postgresql.write.script import quotes_on_one_line

UNITS = {
    "comment": "/*", "dollars": "$a$ ", "escapes": "e'", "word": "e", "quotes": "'", "names": '"', "brackets": "(", "pairs": "''",
    "square": "[", "curly": "{", "numbers": "1e", "blanks": " ", "lines": "\n", "dashes": "--", "parameters": "$1 = '", "commas": "1, ",
    "colons": "::", "backslashes": "\\", "units": "1 month ", "tabs": "\t", "details": "DETAIL:  parameters: $1 = '", "equals": "= ",
    "log lines": "2026-03-01 10:00:00.000 UTC [7] LOG:  duration: ", "settings": "\n-- params: 1\n", "carriage returns": "\r",
}  # fmt: skip


def shapes(text: str, _: Path) -> None:
    for read in (exact_shape_of, literals_of, marked, quotes_on_one_line):
        read("SELECT " + text + "'")


def lexing(text: str, _: Path) -> None:
    for read in (called_in, names_in, operators_in, read_literals):
        with suppress(SlabrowError, ValueError):
            read(text)


def _reader_of(name: str, read: Callable[[Path], object], around: str) -> Callable[[str, Path], None]:
    def reader(text: str, folder: Path) -> None:
        file = folder / name
        file.write_text(around.replace("…", text), encoding="utf-8")
        with suppress(SlabrowError, ValueError):
            read(file)

    reader.__name__ = name
    return reader


READERS = (
    shapes,
    lexing,
    _reader_of("queries.sql", read_queries, "…;"),
    _reader_of("log.log", read_log, "2026-03-01 10:00:00.000 UTC [7] LOG:  duration: 1.5 ms  statement: …\n"),
    _reader_of("raw.log", read_log, "…\n"),
    _reader_of("log.csv", read_log, '2026-03-01 10:00:00.000 UTC,"a","d",7,"[local]",65.4,1,"…\n'),
    _reader_of("log.json", read_log, '{"timestamp": "2026-03-01 10:00:00.000 UTC", "message": "…\n'),
    _reader_of("layout.toml", read_layouts, "[[layout]]\ntable = '…'\n…"),
    _reader_of("manifest.json", read_manifest, "{…"),
    _reader_of("values.csv", lambda file: list(read_keys(str(file), 2)), "…"),
)


def main() -> int:
    length = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    worst = 0.0
    with tempfile.TemporaryDirectory() as folder:
        for reader in READERS:
            for what, unit in UNITS.items():
                took = []
                for factor in (1, 2, 4):
                    text = unit * (factor * length // len(unit))
                    began = time.process_time()
                    reader(text, Path(folder))
                    took.append(time.process_time() - began)
                ratio = took[2] / max(took[0], 0.002)
                worst = max(worst, ratio)
                shown = " : ".join(f"{each / max(took[0], 1e-9):.1f}" for each in took)
                print(
                    f"{reader.__name__:14} {what:17} {took[2] * 1_000:8.1f} ms   {shown}{'   NOT LINEAR' if ratio > 9 else ''}"
                )
    print(f"the worst grows to {worst:.1f} times for 4 times the length")
    return 0 if worst <= 9 else 1


if __name__ == "__main__":
    sys.exit(main())
