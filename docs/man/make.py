"""Writes the manual pages beside this file from the parsers themselves: slabrow.1, and one page a command.

    .venv/bin/python docs/man/make.py

The macros are those of man(7). A test writes them anew and compares.
"""

import argparse
import re
from collections.abc import Iterator
from pathlib import Path

from slabrow import __version__
from slabrow.cli.examples import every_example
from slabrow.cli.main import COMMANDS, EXIT_CODES, parser_of
from slabrow.servers import FAMILY_NAMES

HERE = Path(__file__).resolve().parent
GENERAL = (
    ("SLABROW_DSN", "The server, where --dsn is not given. Without either, the client's own conventions hold: PG* "
                    "variables, service and password files."),
    ("NO_COLOR", "When set, nothing is coloured."),
    ("SLABROW_PG_BIN", "The folder of initdb and postgres that private servers are started from."),
)  # fmt: skip


def pages() -> dict[str, str]:
    """Every page by its file name."""
    found = {"slabrow.1": _overview()}
    for name in COMMANDS:
        found[f"slabrow-{name}.1"] = _page(name)
    return found


def text(words: str) -> str:
    """Words that roff reads as they are: no line begins with a control character, no backslash or hyphen is lost."""
    escaped = words.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line for line in escaped.split("\n"))


def _head(name: str, what: str) -> Iterator[str]:
    yield f'.TH "{name.upper()}" "1" "" "slabrow {__version__}" "Slabrow"'
    yield ".SH NAME"
    yield f"{text(name)} \\- {text(what)}"


def _overview() -> str:
    lines = [*_head("slabrow", "choose, build, keep and prove table partitions")]
    lines += [".SH SYNOPSIS", ".B slabrow", ".I COMMAND", "[options]", ".SH DESCRIPTION"]
    lines += [
        text(
            f"Works on {' and '.join(FAMILY_NAMES)}. Anything that changes a database shows what it would do and stops; --go does it."
        )
    ]
    lines += [".SH COMMANDS"]
    for name, (_, what) in COMMANDS.items():
        lines += [".TP", f".BR {text(f'slabrow-{name}')} (1)", text(what[0].upper() + what[1:] + ".")]
    lines += [".SH ENVIRONMENT"]
    for name, what in GENERAL:
        lines += [".TP", f".B {text(name)}", text(what)]
    lines += [".SH EXIT STATUS", *_exit_codes()]
    lines += [".SH FILES", ".TP", ".I slabrow.toml", text("The layout file, where --layout names no other.")]
    return "\n".join(lines) + "\n"


def _page(name: str) -> str:
    parser, _ = parser_of(name)
    what = COMMANDS[name][1]
    lines = [*_head(f"slabrow-{name}", what)]
    usage = " ".join(parser.format_usage().removeprefix("usage: ").split())
    lines += [".SH SYNOPSIS", text(usage), ".SH DESCRIPTION", text(what[0].upper() + what[1:] + "."), ".SH OPTIONS"]
    for group in parser._action_groups:
        shown = [action for action in group._group_actions if action.help != argparse.SUPPRESS]
        if not shown:
            continue
        if group.title not in ("options", "positional arguments"):
            lines += [f".SS {text(group.title or '')}"]
        for action in shown:
            lines += [".TP", _names(action), text(parser._get_formatter()._expand_help(action)) if action.help else ""]
    lines += [".SH EXAMPLES"]
    for command, example in every_example():
        if command == name:
            lines += [".PP", ".nf", text(f"slabrow {example}"), ".fi"]
    lines += [".SH EXIT STATUS", *_exit_codes(), ".SH SEE ALSO", ".BR slabrow (1)"]
    return "\n".join(line for line in lines if line) + "\n"


def _names(action: argparse.Action) -> str:
    value = action.metavar if isinstance(action.metavar, str) else action.dest.upper()
    if action.choices is not None:
        value = "|".join(map(str, action.choices))
    if not action.option_strings:
        return f".I {text(value)}"
    names = ", ".join(f"\\fB{text(name)}\\fR" for name in action.option_strings)
    return names if action.nargs == 0 else f"{names} \\fI{text(value)}\\fR"


def _exit_codes() -> Iterator[str]:
    for line in EXIT_CODES.split("\n")[1:]:
        code, what = re.fullmatch(r"\s*(\d)\s+(.*)", line).groups()
        yield from (".TP", f".B {code}", text(what))


if __name__ == "__main__":
    for old in HERE.glob("*.1"):
        old.unlink()
    for name, page in pages().items():
        (HERE / name).write_text(page, encoding="utf-8")
