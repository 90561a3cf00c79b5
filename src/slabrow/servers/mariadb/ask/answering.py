"""Answers what predictions ask of a server: the values of constants, and the order of texts. It only reads."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

from pymysql import err

from slabrow.core.sql.answers import Answer, Answers, Order
from slabrow.core.sql.when import When
from slabrow.servers.asking import Fence
from slabrow.servers.mariadb.connection import Connection, as_users
from slabrow.servers.mariadb.errors import explained
from slabrow.servers.mariadb.quoting import literal

_TIMEOUT_MS = 5_000


def answer(connection: Connection, answers: Answers, fence: Fence) -> None:
    """Answers all that is open, as far as it can be answered; the rest is noted as having no answer."""
    constants = sorted(answers.asked_constants - answers.constants.keys())
    may_be = [sql for sql in constants if fence.may_evaluate(sql)]
    with explained("ask what constants are worth"), as_users(connection, _TIMEOUT_MS):
        connection.run("START TRANSACTION READ ONLY")
        try:
            told = {sql: _constant(connection, sql) for sql in may_be}
            answers.constants |= {sql: told.get(sql) for sql in constants}
            answers.arrays |= dict.fromkeys(answers.asked_arrays - answers.arrays.keys())
            answers.places |= dict.fromkeys(answers.asked_places - answers.places.keys())
            for asked, texts in answers.asked_ranks.items():
                known = answers.ranks.get(asked, {})
                if not texts <= known.keys():
                    answers.ranks[asked] = _ranks(connection, asked, sorted(texts | known.keys()))
        finally:
            connection.run("ROLLBACK")


def _constant(connection: Connection, sql: str) -> Answer | None:
    try:
        row = connection.row(f"SELECT {sql}")
    except err.MySQLError:
        return None
    return None if row is None or len(row) != 1 else _as_answer(row[0])


def _as_answer(value: Any) -> Answer | None:
    match value:
        case None:
            return Answer(None, "text", When.PLAN)
        case bool() | int():
            return Answer(str(int(value)), "int", When.PLAN)
        case Decimal():
            return Answer(str(value), "decimal", When.PLAN)
        case float():
            return Answer(repr(value), "decimal", When.PLAN)
        case datetime():
            return Answer(value.isoformat(sep=" "), "datetime", When.PLAN)
        case date():
            return Answer(value.isoformat(), "date", When.PLAN)
        case str():
            return Answer(value, "text", When.PLAN)
    return None


def _ranks(connection: Connection, asked: Order, texts: list[str]) -> dict[str, int]:
    """The place of each text in a collation; equal texts have one place."""
    _, collation = asked
    if not collation.replace("_", "").isalnum():
        return {}
    union = " UNION ALL ".join(
        f"SELECT {place} AS place, {literal(text)} COLLATE {collation} AS text" for place, text in enumerate(texts)
    )
    try:
        rows = connection.rows(f"SELECT place, dense_rank() OVER (ORDER BY text) FROM ({union}) t")
    except err.MySQLError:
        return {}
    return {texts[int(place)]: int(rank) for place, rank in rows}
