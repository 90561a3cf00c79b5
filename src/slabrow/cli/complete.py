"""Options of `complete`."""

import argparse

from slabrow.cli.codes import FINE


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `complete`."""
    parser.add_argument("shell", choices=("bash", "zsh", "fish"), help="whose script is printed, to be sourced there")
    parser.add_argument("--verbose", action="store_true", help="show where a fault is")


def run(options: argparse.Namespace) -> int:
    """Runs `complete`: prints the script. Returns the exit code."""
    from slabrow.files.extras import require

    require("completion")
    import argcomplete

    print(argcomplete.shellcode(["slabrow"], shell=options.shell))  # type: ignore[attr-defined]
    return FINE
