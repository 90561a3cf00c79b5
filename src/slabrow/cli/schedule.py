"""`tend --unit` and `tend --every`: files for a scheduler, and upkeep that stays running."""

import argparse
import getpass
import os
import shutil
import sys
import time
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlsplit

from slabrow.cli.common import parse_wait, remark
from slabrow.core.values.errors import SlabrowError, UsageError
from slabrow.servers.families import family_of

_LEAST_S = 1.0


def unit(options: argparse.Namespace) -> str:
    """The text of the files that `--unit` asks for, with the options that were given beside it."""
    from slabrow.files.schedule import Schedule, cron_file, systemd_files

    _refuse_unkept(options)
    program = shutil.which(sys.argv[0]) or sys.argv[0]
    what = ["--check"] if options.check else ["--go"]
    command = [str(Path(program).resolve()), "tend", *what, "--quiet", "--layout", str(Path(options.layout).resolve())]
    for name in _KEPT:
        value = getattr(options, name)
        if value is not None and value != _DEFAULTS.get(name):
            command += [f"--{name.replace('_', '-')}", str(Path(value).resolve()) if name == "metrics" else str(value)]
    command += ["--verbose"] if options.verbose else []
    for name in options.on or ():
        command += ["--on", name]
    if options.dsn is not None:
        _refuse_secret(options.dsn, "--dsn")
        command += ["--dsn", options.dsn]
    if options.webhook is not None and urlsplit(options.webhook).password is not None:
        raise UsageError(
            "--webhook holds a password, which must not be written to these files",
            fix="give an address without a password, or post from a script of your own",
        )
    kept = ("SLABROW_DSN", "PGHOST", "PGPORT", "PGDATABASE", "PGUSER", "PGSERVICE", "PGSSLMODE", "PGPASSFILE")
    environment = [(name, os.environ[name]) for name in kept if name in os.environ and options.dsn is None]
    _refuse_secret(dict(environment).get("SLABROW_DSN", ""), "SLABROW_DSN")
    schedule = Schedule(command, str(Path(options.layout).resolve().parent), getpass.getuser(), environment)
    return cron_file(schedule) if options.unit == "cron" else systemd_files(schedule)


# What a scheduled run is told as well; the rest is about a run of the moment, and refused by `_refuse_unkept`.
_KEPT = ("table", "metrics", "webhook", "retiring", "log", "lock_wait", "lock_deadline", "format")
_DEFAULTS = {"lock_wait": "2s", "format": "text"}
_OF_THE_MOMENT = ("now", "script", "hold", "end_hold", "until", "every", "serve")


def _refuse_unkept(options: argparse.Namespace) -> None:
    """Options that a schedule cannot hold are refused, not dropped."""
    for name in _OF_THE_MOMENT:
        if getattr(options, name) is not None:
            raise UsageError(
                f"--{name} is for one run, and --unit writes files that run every hour",
                fix="leave one of them out",
            )


def _refuse_secret(dsn: str, source: str) -> None:
    if family_of(dsn).holds_secret(dsn):
        raise UsageError(
            f"{source} holds a password, which must not be written to these files",
            fix=f"keep it in the password file of the user, and leave it out of {source}",
        )


def again_and_again(every: str, once: Callable[[], int]) -> int:
    """Runs upkeep until it is told to stop; a server that is away is tried again the next time.

    Returns the exit code of the last run. Ctrl-C and SIGTERM end it between two runs at once, and within one as they
    end any command.
    """
    pause = max(_LEAST_S, parse_wait(every) / 1_000)
    code = 0
    while True:
        began = time.monotonic()
        try:
            code = once()
        except SlabrowError as error:
            code = error.exit_code
            remark(error.line)
        sys.stdout.flush()
        try:
            time.sleep(max(0.0, pause - (time.monotonic() - began)))
        except KeyboardInterrupt:
            return code
