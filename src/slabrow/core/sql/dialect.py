"""The dialect in which a run reads and writes SQL: that of the server family it speaks to.

It is a property of the whole run, and would be an argument of every function that looks at a statement. So it is set
once, when the family is known, and kept in a context variable: threads that are started with the context have it too.
"""

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

USUAL = "postgres"
BACKQUOTED = "mysql"  # names in backquotes, texts in either kind of quotes

_SPOKEN: ContextVar[str] = ContextVar("dialect", default=USUAL)


def spoken() -> str:
    """The name by which the parser knows the dialect."""
    return _SPOKEN.get()


def speak(dialect: str) -> None:
    """From now on, in this context."""
    _SPOKEN.set(dialect)


@contextmanager
def speaking(dialect: str) -> Iterator[None]:
    """Within, and as it was afterwards."""
    token = _SPOKEN.set(dialect)
    try:
        yield
    finally:
        _SPOKEN.reset(token)
