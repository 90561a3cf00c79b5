"""Answers what predictions ask of a server (core/sql/answers.py), in a few read-only statements with a time limit.

Constant expressions come from statements that others wrote, so only those are evaluated that reach no function which
`--run` would not run either (side_effects.py), and none that is volatile. Whether the server knows a constant while it
plans is read from its own plan of SELECT: what is immutable stands there as a literal.
"""

import json
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar

import psycopg

from slabrow.core.sql.answers import Answer, Answers, HashPlace, Order
from slabrow.core.sql.lexing import lexemes
from slabrow.core.sql.parameters import read_literals
from slabrow.core.sql.when import When
from slabrow.core.values.errors import UsageError
from slabrow.servers.asking import Fence
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection, explained

_BATCH = 200  # expressions in one statement
_TIMEOUT_MS = 5_000
_LARGEST_MODULUS = 4_096

Question = TypeVar("Question")
Told = TypeVar("Told")


def answer(connection: Connection, answers: Answers, fence: Fence) -> None:
    """Answers all that is open, as far as it can be answered; the rest is noted as having no answer."""
    constants = sorted(answers.asked_constants - answers.constants.keys())
    arrays = sorted(answers.asked_arrays - answers.arrays.keys())
    may_be = [sql for sql in constants if fence.may_evaluate(sql)]
    may_be_arrays = [sql for sql in arrays if fence.may_evaluate(sql)]
    places = sorted(answers.asked_places - answers.places.keys(), key=repr)
    with explained("ask what constants are worth"), _reading(connection):
        told = _in_batches(connection, may_be, _constants)
        answers.constants |= {sql: told.get(sql) for sql in constants}
        told = _in_batches(connection, may_be_arrays, _arrays)
        answers.arrays |= {sql: told.get(sql) for sql in arrays}
        found = _in_batches(connection, [each for each in places if each.modulus <= _LARGEST_MODULUS], _places)
        answers.places |= {each: found.get(each) for each in places}
        for order, texts in answers.asked_ranks.items():
            known = answers.ranks.get(order, {})
            if not texts <= known.keys():
                answers.ranks[order] = _ranks(connection, order, sorted(texts | known.keys()))


@contextmanager
def _reading(connection: Connection) -> Iterator[None]:
    """In the session's own time zone, which constants depend on; everything is rolled back."""
    with connection.transaction(force_rollback=True):
        connection.execute("SET TRANSACTION READ ONLY")
        connection.execute(
            "SELECT set_config('statement_timeout', %s, true), set_config('extra_float_digits', '1', true), "
            "set_config('standard_conforming_strings', 'on', true), set_config('IntervalStyle', 'postgres', true)",
            [str(_TIMEOUT_MS)],
        )
        yield


def _in_batches(
    connection: Connection, asked: Sequence[Question], ask: Callable[[Connection, Sequence[Question]], list[Told]]
) -> dict[Question, Told]:
    """Answers by question. A failing expression makes its whole statement fail: then each half is asked separately."""
    found: dict[Question, Told] = {}
    waiting = [list(asked[first : first + _BATCH]) for first in range(0, len(asked), _BATCH)]
    while waiting:
        batch = waiting.pop()
        try:
            with connection.transaction():
                found |= dict(zip(batch, ask(connection, batch), strict=True))
        except psycopg.errors.QueryCanceled:
            if len(batch) > 1:
                waiting += [batch[: len(batch) // 2], batch[len(batch) // 2 :]]
        except (psycopg.errors.DataError, psycopg.ProgrammingError, psycopg.NotSupportedError, ValueError,
                psycopg.errors.InternalError):  # fmt: skip
            if len(batch) > 1:
                waiting += [batch[: len(batch) // 2], batch[len(batch) // 2 :]]
    return found


def _constants(connection: Connection, batch: Sequence[str]) -> list[Answer]:
    whens = _moments(connection, batch)
    triples = ", ".join(
        f"({sql})::text, pg_typeof({sql})::text, {_COLLATION.replace('{0}', f'({sql})')}" for sql in batch
    )
    (row,) = connection.execute(f"SELECT {triples}".encode()).fetchall()
    return [
        Answer(row[3 * place], row[3 * place + 1], when, collation=row[3 * place + 2])
        for place, when in enumerate(whens)
    ]


# Of other types the function raises an error; CASE keeps it from being called (it is stable, and not folded before).
_COLLATION = (
    "CASE WHEN pg_typeof({0}) IN ('text', 'character varying', 'character', 'name') THEN pg_collation_for({0}) END"
)


def _arrays(connection: Connection, batch: Sequence[str]) -> list[Answer]:
    whens = _moments(connection, batch)
    pairs = ", ".join(f"ARRAY(SELECT e::text FROM unnest({sql}) e), pg_typeof({sql})::text" for sql in batch)
    (row,) = connection.execute(f"SELECT {pairs}".encode()).fetchall()
    return [
        Answer("", row[2 * place + 1].removesuffix("[]"), when, tuple(row[2 * place]))
        for place, when in enumerate(whens)
    ]


def _moments(connection: Connection, batch: Sequence[str]) -> list[When]:
    """When the server knows each: while planning where its plan holds a literal, else as execution starts."""
    row = connection.execute(f"EXPLAIN (VERBOSE, FORMAT JSON) SELECT {', '.join(batch)}".encode()).fetchone()
    assert row is not None
    plan: dict[str, Any] = (json.loads(row[0]) if isinstance(row[0], str) else row[0])[0]["Plan"]
    if plan["Node Type"] != "Result" or len(plan["Output"]) != len(batch):
        raise ValueError("these are no constants")
    return [When.PLAN if _is_literal(each) else When.START for each in plan["Output"]]


def _is_literal(text: str) -> bool:
    """One literal with at most one type: `('x'::text)::date` is a cast that is left for the execution."""
    try:
        casts = sum(each.text == ":" for each in lexemes(text)) // 2
        return casts < 2 and not text.startswith("(") and len(read_literals(text)) == 1
    except UsageError:
        return False


def _ranks(connection: Connection, order: Order, texts: Sequence[str]) -> dict[str, int]:
    """Empty where the server cannot put them in order."""
    type_name, collation = order
    value = f"w.text::{type_name}" + (f" COLLATE {collation}" if collation else "")
    sql = f"SELECT w.text, dense_rank() OVER (ORDER BY {value})::int FROM unnest(%s::text[]) AS w (text)"
    try:
        with connection.transaction():
            return dict(connection.execute(sql.encode(), [list(texts)]).fetchall())
    except (psycopg.errors.DataError, psycopg.ProgrammingError, psycopg.errors.QueryCanceled):
        return {}


def _places(connection: Connection, batch: Sequence[HashPlace]) -> list[int]:
    selects = []
    for each in batch:
        values = ", ".join(
            f"{'NULL' if text is None else quoting.literal(text)}::{type_name}"
            for text, type_name in zip(each.key, each.types, strict=True)
        )
        selects.append(
            f"(SELECT min(r) FROM generate_series(0, {each.modulus - 1:d}) r WHERE satisfies_hash_partition("
            f"{quoting.literal(each.parent)}::regclass, {each.modulus:d}, r, {values}))"
        )
    (row,) = connection.execute(f"SELECT {', '.join(selects)}".encode()).fetchall()
    if None in row:
        raise ValueError("no remainder")
    return list(row)
