"""The moments at which the server knows a value."""

from enum import IntEnum


class When(IntEnum):
    """The earliest moment at which a value is known: while planning, as execution starts, while it runs."""

    PLAN = 0
    START = 1
    RUN = 2
