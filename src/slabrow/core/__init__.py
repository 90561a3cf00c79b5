"""Pure computation: no I/O, no clock, no server, no printing."""
