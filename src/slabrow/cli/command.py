"""The functions that every command's module has."""

import argparse
from typing import Protocol


class Command(Protocol):
    """A module of `cli` that is named in `main.COMMANDS`."""

    def add_options(self, parser: argparse.ArgumentParser) -> None:
        """Adds the options of the command."""

    def run(self, options: argparse.Namespace) -> int:
        """Runs the command and shows its result. Returns the exit code."""
