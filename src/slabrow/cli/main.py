"""The way in. A dictionary serves `--help`; a command's module is imported when it is chosen: help is instant."""

import argparse
import errno
import gc
import importlib
import io
import os
import re
import signal
import sys
from contextlib import suppress
from typing import TYPE_CHECKING, NoReturn

from slabrow import __version__
from slabrow.cli.codes import FINE, STOPPED, WRONG_USAGE
from slabrow.core.values.errors import SlabrowError, Stopped, UsageError, nearest
from slabrow.core.values.one_line import one_line, without_controls
from slabrow.servers import FAMILY_NAMES

if TYPE_CHECKING:
    from slabrow.cli.command import Command

# In the order of the work: name → (module, what it does).
COMMANDS = {
    "demo": ("slabrow.cli.demo", "the whole job on made-up data, on a private server"),
    "survey": ("slabrow.cli.survey", "what is in this table"),
    "weigh": ("slabrow.cli.weigh", "candidate keys and layouts against the workload, ranked, with reasons"),
    "forecast": ("slabrow.cli.forecast", "the partitions that a layout gives, before anything exists"),
    "build": ("slabrow.cli.build", "create a new partitioned table and its partitions"),
    "convert": ("slabrow.cli.convert", "an existing table into the declared layout, while it is used"),
    "census": ("slabrow.cli.census", "every partition: bounds, rows, bytes, low and high key; findings"),
    "route": ("slabrow.cli.route", "where does this value go"),
    "prove": ("slabrow.cli.prove", "which partitions each query touches, and whether expectations hold"),
    "tend": ("slabrow.cli.tend", "the routine upkeep: create ahead, sweep the catch-all, retire behind"),
    "adopt": ("slabrow.cli.adopt", "bring a table in as a partition, or an archive back"),
    "release": ("slabrow.cli.release", "let a partition out, as a table of its own"),
    "split": ("slabrow.cli.split", "divide a partition, while it is used"),
    "merge": ("slabrow.cli.merge", "join neighbouring partitions, while they are used"),
    "relocate": ("slabrow.cli.relocate", "move partitions to another tablespace"),
    "index": ("slabrow.cli.index", "every index on every partition; build what is missing, beside writers"),
    "history": ("slabrow.cli.history", "the ledger: what was done, when, by whom, and how it ended"),
    "rehearse": ("slabrow.cli.rehearse", "made-up rows and a played day of load; the layouts tried for real"),
    "compare": ("slabrow.cli.compare", "two tables, the same queries, side by side, in time and in money"),
    "report": ("slabrow.cli.report", "one page to hand on, from the saved results of the others"),
    "complete": ("slabrow.cli.complete", "a shell's completion of commands, options, tables and partitions"),
}

EXIT_CODES = """exit codes:
  0 fine, or nothing to do
  1 found something: work that a preview proposes, drift, a finding, a broken limit
  2 wrong usage: an option, a file, a layout, a table that is not there
  3 the server cannot be reached, or it refuses
  4 a guard: Slabrow could do it, and does not
  5 stopped midway; the same command goes on from there"""


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        raise UsageError(message, fix=self._nearest_option(message) or f"see {self.prog} --help")

    def _nearest_option(self, message: str) -> str | None:
        unknown = re.search(r"unrecognized arguments: (--[\w-]+)", message)
        if unknown is None:
            return None
        known = [name for action in self._actions for name in action.option_strings if name.startswith("--")]
        near = nearest(unknown[1], known)
        return f"did you mean {near}? {self.prog} --help has all options" if near else None


def main(arguments: list[str] | None = None) -> int:
    """Runs one command and returns its exit code. Errors go to standard error, in up to three parts."""
    given = sys.argv[1:] if arguments is None else arguments
    if "_ARGCOMPLETE" in os.environ:  # a shell asks what could stand next
        from slabrow.cli.completing import answer

        return answer()
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):  # a terminal that has no such letter shows a question mark
            stream.reconfigure(errors="replace")
    signal.signal(signal.SIGTERM, _as_interrupt)
    sys.unraisablehook = _unheard
    # Loading modules makes many objects and no garbage: looking for it as often as usual costs a tenth of a short run.
    gc.set_threshold(200_000)
    try:
        return _run(given)
    except SlabrowError as error:
        return _report(error)
    except KeyboardInterrupt:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        print(
            "slabrow: stopped; what was not finished has been rolled back, the same command goes on from there",
            file=sys.stderr,
        )
        return STOPPED
    except BrokenPipeError:
        # The reader of the output has stopped reading: that is no error. Nothing may be written at exit either.
        _abandon_output()
        return FINE
    except Exception as error:
        if "--verbose" in given:
            import traceback

            traceback.print_exc()
        return _report(_foreseen(error) or _fault(error))


def _foreseen(error: Exception) -> SlabrowError | None:
    """The error in words, where its cause lies outside the program: memory, files, encodings. None for a fault of the
    program.
    """
    from slabrow.servers.families import worded

    match error:
        case UnicodeError():
            return UsageError("an option or a file is no text", found=str(error), fix="write it in UTF-8")
        case RecursionError():
            return UsageError("something is nested too deeply to be read", fix="look for very many brackets in a row")
        case OverflowError():
            return UsageError(
                "a number or a date is too large", found=str(error), fix="dates lie in the years 1 to 9999"
            )
        case MemoryError():
            return Stopped("there is not enough memory", fix="ask for less at once")
        case OSError() if error.filename is None and error.errno in _OF_OUTPUT:
            _abandon_output()
            return UsageError(
                "the output cannot be written", found=error.strerror, fix="make room, or send it somewhere else"
            )
        case OSError():
            where = f" {str(error.filename)!r}" if error.filename is not None else ""
            return UsageError(
                f"a file{where} cannot be used",
                found=error.strerror or str(error),
                fix="name a file that exists and that you may use",
            )
        case _:
            return worded(error)


_OF_OUTPUT = (errno.ENOSPC, errno.EBADF, errno.EIO, errno.EFBIG, errno.EDQUOT, errno.EPIPE)


def _fault(error: Exception) -> SlabrowError:
    return Stopped(
        "a fault in Slabrow itself",
        found=f"{type(error).__name__}: {error}",
        fix="run it again with --verbose, and report what it prints",
    )


def _abandon_output() -> None:
    """From now on nothing is written to standard output, not even at exit."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _unheard(ignored: "sys.UnraisableHookArgs") -> None:
    """Ctrl-C that falls into a callback of the interpreter's own (an import lock's, say) is lost there: once more."""
    from threading import Timer

    if issubclass(ignored.exc_type, KeyboardInterrupt):
        Timer(0.05, os.kill, (os.getpid(), signal.SIGINT)).start()
    else:
        sys.__unraisablehook__(ignored)


def _as_interrupt(*_: object) -> None:
    raise KeyboardInterrupt


def _run(arguments: list[str]) -> int:
    if len(arguments) > 1 and arguments[0] == "help":
        arguments = [arguments[1], "--help"]
    if not arguments or arguments[0] in ("-h", "--help", "help"):
        print(help_text())
        return FINE if arguments else WRONG_USAGE
    if arguments[0] in ("-V", "--version"):
        print(f"slabrow {__version__}")
        return FINE
    name, *rest = arguments
    if name not in COMMANDS:
        near = nearest(name, COMMANDS)
        raise UsageError(
            f"there is no command {name!r}", fix=f"did you mean `slabrow {near}`?" if near else "see slabrow --help"
        )
    parser, command = parser_of(name)
    return command.run(parser.parse_args(rest))


def parser_of(name: str) -> "tuple[argparse.ArgumentParser, Command]":
    """The parser of a command, and its module."""
    from slabrow.cli.examples import examples

    module_name, what = COMMANDS[name]
    command: Command = importlib.import_module(module_name)
    parser = _Parser(
        prog=f"slabrow {name}",
        description=what[0].upper() + what[1:] + ".",
        epilog=f"{examples(name)}\n\n{EXIT_CODES}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    command.add_options(parser)
    return parser, command


def help_text() -> str:
    """The text of `slabrow --help`."""
    lines = [f"  {name:<10} {what}" for name, (_, what) in COMMANDS.items()]
    return "\n".join(
        [
            "usage: slabrow COMMAND [options]",
            "",
            f"Choose, build, keep and prove table partitions on {' and '.join(FAMILY_NAMES)}.",
            "",
            *lines,
            "",
            "slabrow help COMMAND shows a command's options and examples. Anything that changes a",
            "database shows what it would do and stops; --go does it, --script FILE writes it as SQL.",
            "",
            EXIT_CODES,
        ]
    )


def _report(error: SlabrowError) -> int:
    print(f"slabrow: error: {one_line(error.problem)}", file=sys.stderr)
    for label, part in (("found", error.found), ("do", error.fix)):
        if part:
            first, *more = without_controls(part).split("\n")
            print(f"  {label}: {first}", file=sys.stderr)
            for line in more:
                print(f"  {' ' * len(label)}  {line}", file=sys.stderr)
    return error.exit_code
