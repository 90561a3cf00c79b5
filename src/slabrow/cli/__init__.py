"""The command line: options in, a result shown, an exit code out. Nothing is decided here."""
