"""The pieces that a SQL text is cut into, whatever its dialect."""

from dataclasses import dataclass
from enum import Enum, auto


class Piece(Enum):
    """The kinds of lexemes."""

    WORD = auto()  # a key word or a name without quotes
    NAME = auto()  # a name in quotes
    TEXT = auto()  # a literal in quotes of any kind
    PARAMETER = auto()  # $1
    COMMENT = auto()
    BLANK = auto()
    NUMBER = auto()
    OTHER = auto()  # operators and punctuation, one character each


@dataclass(frozen=True, slots=True)
class Lexeme:
    """text: as it stands. value: of a word in lower case, of a name without its quotes; else the same as text.

    is_closed   false for a quote or a comment that the text ends in
    """

    piece: Piece
    text: str
    value: str
    start: int
    is_closed: bool = True
