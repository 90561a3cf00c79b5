"""Statements as the parser library understands them, each parsed once."""

from functools import lru_cache

import sqlglot
from sqlglot import exp
from sqlglot.dialects.postgres import Postgres
from sqlglot.errors import SqlglotError
from sqlglot.tokenizer_core import TokenType


@lru_cache(maxsize=256)
def parse(sql: str) -> exp.Expression | None:
    """The parsed statement, to be looked at only: the same tree is given again. None as for `parse_anew`."""
    return parse_anew(sql)


def parse_anew(sql: str) -> exp.Expression | None:
    """A tree of its own, that may be changed; None when it is not understood, or only taken for a command."""
    try:
        parsed = sqlglot.parse_one(_with_whole_intervals(sql), read="postgres")
    except (SqlglotError, RecursionError):
        return None
    return parsed if isinstance(parsed, exp.Expression) and not isinstance(parsed, exp.Command) else None


def _with_whole_intervals(sql: str) -> str:
    """INTERVAL written as a cast: of its literal the parser keeps the first part only, `1 day ago` as 1 day."""
    if "interval" not in sql.lower():
        return sql
    tokens = Postgres().tokenize(sql)
    for word, literal, after in reversed(list(zip(tokens, tokens[1:], [*tokens[2:], None], strict=False))):
        is_plain = word.token_type is TokenType.INTERVAL and literal.token_type is TokenType.STRING
        if is_plain and (after is None or after.text.upper() not in _INTERVAL_FIELDS):
            text = sql[literal.start : literal.end + 1]
            sql = f"{sql[: word.start]}CAST({text} AS INTERVAL){sql[literal.end + 1 :]}"
    return sql


_INTERVAL_FIELDS = ("YEAR", "MONTH", "DAY", "HOUR", "MINUTE", "SECOND")
