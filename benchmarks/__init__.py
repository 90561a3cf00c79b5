"""Paired ratios of whole runs, never part of the tests: machines differ, ratios of one run do not."""

import compileall
from pathlib import Path

# As an installer leaves the program: sources that have changed since would be compiled anew in every run.
compileall.compile_dir(Path(__file__).parents[1] / "src", quiet=2)
