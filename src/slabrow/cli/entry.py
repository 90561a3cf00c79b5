"""Where the program begins. With nothing to load, so that Ctrl-C at any moment ends it in the one way."""

import gc
import os
import signal
import sys


def main() -> None:
    """Runs the program on its own arguments and exits with its code. Never returns."""
    _keep_streams_open()
    try:
        from slabrow.cli.main import main as run

        code = run()
    except KeyboardInterrupt:  # while modules load: nothing has begun
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        print("slabrow: stopped before it began", file=sys.stderr)
        code = 5
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # from here on the program only ends
    # On leaving, Python looks for garbage among all objects: a fifth of a second with thousands of partitions.
    gc.freeze()
    sys.exit(code)


def _keep_streams_open() -> None:
    """A stream that was closed is /dev/null from now on: else a connection would get its number, and its output."""
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)
        if getattr(sys, name) is None:
            setattr(sys, name, open(number, "r" if number == 0 else "w", closefd=False))  # noqa: SIM115
