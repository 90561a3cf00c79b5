"""The exit codes, which scripts rely on."""

FINE, FOUND, WRONG_USAGE, NO_SERVER, REFUSED, STOPPED = range(6)
