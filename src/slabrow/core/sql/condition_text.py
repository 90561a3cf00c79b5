"""A condition as a person writes it after WHERE, checked so that it stays one condition within its brackets."""

from slabrow.core.sql.lexing import lexemes
from slabrow.core.sql.pieces import Piece
from slabrow.core.values.errors import UsageError


def checked_condition(text: str) -> str:
    """The condition, to stand within brackets. Raises UsageError for what would not stay within them."""
    depth = 0
    for each in lexemes(text):
        depth += {"(": 1, "[": 1, ")": -1, "]": -1}.get(each.text, 0) if each.piece is Piece.OTHER else 0
        is_odd = each.text == ";" or each.piece in (Piece.COMMENT, Piece.PARAMETER)
        if depth < 0 or not each.is_closed or is_odd:
            raise UsageError(
                "this is not one condition",
                found=text[:80],
                fix="write it as after WHERE: hive_id = 17 AND note IS NULL",
            )
    if depth or not text.strip():
        raise UsageError(
            "this is not one condition", found=text[:80], fix="close its brackets, and let it not be empty"
        )
    return text.strip()
