"""`tend --unit` and `tend --every`: files for a scheduler, and upkeep that stays running."""

import argparse
import getpass
import os
import shutil
import sys
import time
from collections.abc import Callable
from pathlib import Path

from slabrow.cli.common import parse_wait
from slabrow.core.errors import SlabrowError, UsageError

_LEAST_S = 1.0


def unit(options: argparse.Namespace) -> str:
    """The text of the files that `--unit` asks for, with the options that were given beside it."""
    from slabrow.files.schedule import Schedule, cron_file, systemd_files

    program = shutil.which(sys.argv[0]) or sys.argv[0]
    command = [str(Path(program).resolve()), "tend", "--go", "--quiet", "--layout", str(Path(options.layout).resolve())]
    for name in ("table", "metrics", "webhook", "retiring", "log", "lock_deadline"):
        if getattr(options, name) is not None:
            value = getattr(options, name)
            command += [f"--{name.replace('_', '-')}", str(Path(value).resolve()) if name == "metrics" else str(value)]
    for name in options.on or ():
        command += ["--on", name]
    if options.dsn is not None and "password" in options.dsn.lower():
        raise UsageError(
            "a password does not belong in these files",
            fix="leave it out of --dsn: the password file of the user serves",
        )
    if options.dsn is not None:
        command += ["--dsn", options.dsn]
    kept = ("SLABROW_DSN", "PGHOST", "PGPORT", "PGDATABASE", "PGUSER", "PGSERVICE", "PGSSLMODE", "PGPASSFILE")
    environment = [(name, os.environ[name]) for name in kept if name in os.environ and options.dsn is None]
    if any(
        "password" in value.lower() or ":" in value.partition("@")[0].partition("//")[2] for _, value in environment
    ):
        raise UsageError(
            "SLABROW_DSN holds a password, which does not belong in these files",
            fix="keep it in the password file of the user, and leave it out of SLABROW_DSN",
        )
    schedule = Schedule(command, str(Path(options.layout).resolve().parent), getpass.getuser(), environment)
    return cron_file(schedule) if options.unit == "cron" else systemd_files(schedule)


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
            print(f"slabrow: {error.line}", file=sys.stderr)
        sys.stdout.flush()
        try:
            time.sleep(max(0.0, pause - (time.monotonic() - began)))
        except KeyboardInterrupt:
            return code
