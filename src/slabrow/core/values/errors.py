"""All errors that Slabrow raises on purpose. The classes follow the exit codes; `cli` alone turns them into text.

SlabrowError
├── UsageError       2   options that contradict each other or cannot be read
│   ├── LayoutError  2   the layout file, or a layout that does not fit its table
│   └── MissingExtra 2   a library that is installed on wish
├── ServerError      3   the server cannot be reached or refuses
├── Refusal          4   Slabrow will not do it: a guard spoke
└── Stopped          5   ended midway; the same command resumes
"""

from collections.abc import Iterable

from slabrow.core.values.one_line import one_line


class SlabrowError(Exception):
    """An error in up to three parts: the problem, what was found, and what to do.

    problem   one line, starting in lower case, without a full stop
    found     the value, the line, the server's own words
    fix       what the reader can do now
    """

    exit_code = 1

    def __init__(self, problem: str, *, found: str | None = None, fix: str | None = None) -> None:
        super().__init__(problem)
        self.problem = problem
        self.found = found
        self.fix = fix

    def __str__(self) -> str:
        return "\n".join(part for part in (self.problem, self.found, self.fix) if part)

    @property
    def line(self) -> str:
        """All of it in one line."""
        return one_line(str(self).replace("\n", ": "))


class UsageError(SlabrowError):
    """Options that cannot be read, or that contradict each other."""

    exit_code = 2


class LayoutError(UsageError):
    """A layout that is wrong in itself, or does not fit the table it names."""


class MissingExtra(UsageError):
    """A library that is installed on wish is needed, and not there."""


class ServerError(SlabrowError):
    """The server cannot be reached, or it refuses."""

    exit_code = 3


class LockNotGot(ServerError):
    """Another session holds a lock for longer than the limit. found: the server's words."""


class Doubled(ServerError):
    """A unique key would hold the same value twice. found: the server's words."""


class Refusal(SlabrowError):
    """A guard refuses: Slabrow could do it and will not. Nothing has been done."""

    exit_code = 4


class Outdated(Refusal):
    """Prepared statements no longer fit the table: prepared anew, they may."""


class Stopped(SlabrowError):
    """Ended midway. What is done stays done, and the same command goes on from there."""

    exit_code = 5


def nearest(wrong: str, right: Iterable[str]) -> str | None:
    """The known word that a mistyped one was probably meant to be, or None when none is near."""
    import difflib  # only where something was mistyped: it takes as long to load as the other errors

    close = difflib.get_close_matches(wrong, list(right), n=1, cutoff=0.6)
    return close[0] if close else None
