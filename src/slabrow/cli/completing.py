"""Answers a shell that asks what could stand next: commands, options, and names from the database and from files.

argcomplete asks this program itself at each TAB, so that what is offered is what the parsers accept and what the
database holds at that moment; a script written once could know neither. It is loaded only then.
"""

import argparse
import os
import shlex
from collections.abc import Callable, Iterable
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from slabrow.cli.main import COMMANDS, parser_of

_MOST = 200  # names: more cannot be read at a prompt
_PATIENCE_S = 3
Completer = Callable[..., Iterable[str]]


def answer() -> int:
    """Writes what could stand next to where argcomplete wants it, and ends the process."""
    import argcomplete

    words = _words(os.environ.get("COMP_LINE", ""))
    parser = argparse.ArgumentParser(prog="slabrow", add_help=False)
    if len(words) > 1 and words[1] in COMMANDS and (len(words) > 2 or os.environ["COMP_LINE"].endswith(" ")):
        commands = parser.add_subparsers()
        made, _ = parser_of(words[1])
        below = commands.add_parser(words[1], parents=[made], add_help=False, allow_abbrev=False)
        for action in below._actions:
            if (completer := completer_of(action)) is not None:
                action.completer = completer  # type: ignore[attr-defined]
    else:
        parser.add_argument("command", choices=[*COMMANDS, "help"])
    argcomplete.autocomplete(parser, always_complete_options="long")
    return 0


def _words(line: str) -> list[str]:
    try:
        return shlex.split(line)
    except ValueError:  # a quote that is still open
        return line.split()


def completer_of(action: argparse.Action) -> Completer | None:
    """What completes the values of an option; None where the parser's own choices, or file names, do."""
    shown = action.metavar if isinstance(action.metavar, str) else ""
    if action.dest in ("table_named", "table", "before", "like", "staged", "into") or shown in ("TABLE", "PARENT"):
        return _tables
    if shown == "PARTITION" or action.dest in ("hold", "end_hold"):
        return _partitions
    if action.dest in ("layout", "layouts"):
        return _layout_files
    if action.dest == "only":
        return _queries
    return None


def _tables(prefix: str, parsed_args: Any, **_: Any) -> Iterable[str]:
    found = set(_in_layout_file(parsed_args))
    with suppress(Exception):  # a shell wants words or nothing
        found |= set(_asked(parsed_args, prefix, partitions=False))
    return sorted(found)


def _partitions(prefix: str, parsed_args: Any, **_: Any) -> Iterable[str]:
    with suppress(Exception):
        return _asked(parsed_args, prefix, partitions=True)
    return ()


def _asked(parsed: Any, prefix: str, *, partitions: bool) -> tuple[str, ...]:
    """Names from the database. The connection is given up soon: somebody waits at a prompt."""
    from slabrow.servers.families import open_session

    os.environ.setdefault("PGCONNECT_TIMEOUT", str(_PATIENCE_S))
    dsn = getattr(parsed, "dsn", None) or os.environ.get("SLABROW_DSN", "")
    with closing(open_session(dsn)) as session:
        return session.catalogue.names_like(prefix, partitions=partitions, most=_MOST)


def _in_layout_file(parsed: Any) -> Iterable[str]:
    from slabrow.files.layout_file import read_layouts

    path = Path(getattr(parsed, "layout", None) or "slabrow.toml")
    with suppress(Exception):
        return [str(layout.table) for layout in read_layouts(path)]
    return ()


def _layout_files(prefix: str, **_: Any) -> Iterable[str]:
    folder = Path(prefix).parent
    with suppress(OSError):
        return [str(path) for path in folder.iterdir() if path.suffix == ".toml" or path.is_dir()]
    return ()


def _queries(prefix: str, parsed_args: Any, **_: Any) -> Iterable[str]:
    from slabrow.files.query_file import read_queries

    named = getattr(parsed_args, "queries", None)
    with suppress(Exception):
        return [query.name for query in read_queries(Path(named))] if named else ()
    return ()
