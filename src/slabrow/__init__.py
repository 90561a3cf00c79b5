"""Slabrow: choose, build, keep and prove table partitions. Numbers before, evidence after."""

__version__ = "0.1.0"
