"""Statements as the parser library understands them, each parsed once."""

import re
from functools import lru_cache

import sqlglot
from sqlglot import exp
from sqlglot.dialects.postgres import Postgres
from sqlglot.errors import SqlglotError
from sqlglot.tokenizer_core import TokenType

from slabrow.core.sql.dialect import BACKQUOTED, spoken
from slabrow.core.sql.lexing import lexemes
from slabrow.core.sql.pieces import Lexeme, Piece


def parse(sql: str) -> exp.Expression | None:
    """The parsed statement, to be looked at only: the same tree is given again. None as for `parse_anew`."""
    return _parsed(sql, spoken())


@lru_cache(maxsize=256)
def _parsed(sql: str, _: str) -> exp.Expression | None:
    return parse_anew(sql)


def parse_anew(sql: str) -> exp.Expression | None:
    """A tree of its own, that may be changed; None when the parser does not understand it."""
    try:
        if spoken() == BACKQUOTED:
            parsed = sqlglot.parse_one(_with_numbered_parameters(sql), read=BACKQUOTED)
        else:
            spelled = _with_whole_intervals(_with_spelled_plus(_with_spelled_operators(sql)))
            parsed = sqlglot.parse_one(spelled, read="postgres")
    except (SqlglotError, RecursionError):
        return None
    return parsed if isinstance(parsed, exp.Expression) and not isinstance(parsed, exp.Command) else None


NUMBERED = "slabrow_parameter_"  # begins the name of the variable that stands for a question mark


def _with_numbered_parameters(sql: str) -> str:
    """Question marks as variables with a number, and REPLACE INTO as the INSERT that it reads like.

    Raises SqlglotError for code within comments, which the parser would take for comments.
    """
    parts: list[str] = []
    number, is_first = 0, True
    for each in lexemes(sql):
        if each.piece is Piece.COMMENT and each.text.startswith(("/*!", "/*M!")):
            raise SqlglotError("code in a comment")
        if each.piece is Piece.PARAMETER:
            number += 1
            parts.append(f"@{NUMBERED}{number}")
        else:
            parts.append("INSERT" if is_first and each.value == "replace" else each.text)
        is_first = is_first and each.piece in (Piece.BLANK, Piece.COMMENT)
    return "".join(parts)


_OPERATOR_SIGNS = "-+*/<>=~!@#%^&|`?"
_RUN = re.compile(r"[-+*/<>=~!@#%^&|`?]{2,}|[@!?`]")
# The operators that the parser reads as the server does. Of one character: all but those it reads differently.
_KNOWN_OPERATORS = frozenset(
    ("+", "-", "*", "/", "<", ">", "=", "~", "#", "%", "^", "&", "|", "<=", ">=", "<>", "!=", "||", "->", "->>", "#>",
     "#>>", "@>", "<@", "&&", "<<", ">>", "~*", "!~", "!~*", "~~", "!~~", "~~*", "!~~*", "^@", "|/", "||/", "-|-", "&<",
     "&>", "@@", "<->", "?|", "?&")
)  # fmt: skip


def _with_spelled_operators(sql: str) -> str:
    """Operators that the parser cuts otherwise than the server, as OPERATOR(…), which means the same.

    The server takes the longest run of operator characters. A final + or - belongs to the operator only where one of
    ~ ! @ # % ^ & | ` ? is in it (PostgreSQL manual, 4.1.3).
    """
    if all(run in _KNOWN_OPERATORS or run in ("--", "/*", "*/") for run in _RUN.findall(sql)):
        return sql
    parts: list[str] = []
    run = ""
    for each in (*lexemes(sql), None):
        if each is not None and each.piece is Piece.OTHER and each.text in _OPERATOR_SIGNS:
            run += each.text
            continue
        if run:
            signs = len(run)
            while signs > 1 and run[signs - 1] in "+-" and not set(run[:signs]) & set("~!@#%^&|`?"):
                signs -= 1
            known = run[:signs] in _KNOWN_OPERATORS
            parts.append((run[:signs] if known else f" OPERATOR({run[:signs]}) ") + run[signs:])
            run = ""
        if each is not None:
            parts.append(each.text)
    return "".join(parts)


_MAY_BE_SIGN = re.compile(r"(?:[-=<>(,+*/%|&#\[]|\b[A-Za-z]+)\s*\+")
_BEFORE_OPERAND = frozenset(
    ("select", "where", "and", "or", "not", "in", "between", "then", "else", "when", "case", "by", "on", "having",
     "returning", "values", "limit", "offset", "set", "like", "ilike", "is", "from", "distinct", "any", "all", "some")
)  # fmt: skip


def _with_spelled_plus(sql: str) -> str:
    """A plus sign before its operand as an addition to 0.

    The parser drops the sign, and with it that the key is calculated.
    """
    if "+" not in sql or _MAY_BE_SIGN.search(sql) is None:
        return sql
    parts: list[str] = []
    before: Lexeme | None = None
    for each in lexemes(sql):
        if each.piece not in (Piece.BLANK, Piece.COMMENT):
            opens = before is None or (before.piece is Piece.OTHER and before.text not in ")].")
            opens = opens or (before is not None and before.piece is Piece.WORD and before.value in _BEFORE_OPERAND)
            if each.text == "+" and opens:
                parts.append("0 ")
            before = each
        parts.append(each.text)
    return "".join(parts)


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
