"""`python -m slabrow` is the program too."""

from slabrow.cli.entry import main

main()
