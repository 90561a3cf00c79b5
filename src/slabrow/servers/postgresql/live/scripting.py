"""Writes the steps of a live conversion as psql files, one for each phase, to be read and run by hand.

Each step asks first whether it is done, so a file that was stopped is run again. What is repeated becomes a DO block
that commits after each batch; a strong lock is tried again and again within a sub-transaction, which lets go of it
each time.
"""

from collections.abc import Iterator, Sequence
from datetime import datetime

from slabrow import __version__
from slabrow.core.upkeep.statements import Check, Part, Statement, Transaction, sql_of
from slabrow.core.upkeep.steps import RepeatedStep, SpreadStep, Step
from slabrow.servers.postgresql.live.following import dollar_tag
from slabrow.servers.postgresql.quoting import literal
from slabrow.servers.postgresql.write.script import checked, comment_line, quotes_on_one_line

_PAUSE_S = 0.05


def phase(title: str, steps: Sequence[Step], lock_wait_ms: int, now: datetime, is_over: str | None) -> str:
    """One file."""
    return "\n".join(_lines(title, steps, lock_wait_ms, now, is_over)) + "\n"


def _lines(title: str, steps: Sequence[Step], lock_wait_ms: int, now: datetime, is_over: str | None) -> Iterator[str]:
    yield comment_line(title)
    yield f"-- Written by slabrow {__version__} at {now:%Y-%m-%d %H:%M:%S%z}. Run it with: psql -X -f THIS_FILE"
    yield "-- It may be stopped at any moment, and is then run again: what is done is not done twice."
    yield "-- Not in here, as psql cannot do it: several sessions at a time, and waiting for replicas that fall behind."
    yield "\\set ON_ERROR_STOP on"
    yield "SET client_encoding = 'UTF8';"
    yield "SET standard_conforming_strings = on;"
    yield "SET client_min_messages = warning;"
    yield "SET statement_timeout = 0;"
    yield "SET row_security = off;"
    yield "\\o /dev/null"
    if is_over is not None:
        yield f"SELECT ({is_over}) AS is_over \\gset"
        yield "\\if :is_over"
        yield "\\echo 'this is over already'"
        yield "\\quit"
        yield "\\endif"
    for step in steps:
        yield ""
        yield comment_line(step.name)
        if isinstance(step, SpreadStep):
            for piece in step.pieces:
                yield from _unless(piece.is_done, _once(piece.transaction, lock_wait_ms))
        if isinstance(step, RepeatedStep):
            yield _again_and_again(step)
        else:
            yield from _unless(step.is_done, [*_once(step.transaction, lock_wait_ms), *_kept(step)])


def _kept(step: Step) -> list[str]:
    """The result of a comparison: that it was made is what the next steps ask for."""
    return [step.keeps.replace("$1", "'[]'") + ";"] if step.keeps is not None else []


def _unless(is_done: str, lines: Sequence[str]) -> Iterator[str]:
    yield f"SELECT NOT ({quotes_on_one_line(is_done)}) AS is_left \\gset"
    yield "\\if :is_left"
    yield from lines
    yield "\\endif"


def _once(transaction: Transaction, lock_wait_ms: int) -> list[str]:
    if transaction.strong is not None:
        return [_behind_lock(transaction, lock_wait_ms)]
    texts = [
        (checked(part) if isinstance(part, Check) else quotes_on_one_line(sql_of(part))) + ";"
        for part in transaction.statements
    ]
    if not transaction.is_atomic:
        return texts
    return ["BEGIN ISOLATION LEVEL READ COMMITTED;", *texts, "COMMIT;"]


def _inner(part: Part) -> str:
    """A statement within a DO block. Settings stand as they are: as text they would need a snapshot first."""
    sql = checked(part) if isinstance(part, Check) else quotes_on_one_line(sql_of(part))
    return f"{sql};" if isinstance(part, Statement) and sql.startswith("SET ") else f"EXECUTE {literal(sql)};"


def _again_and_again(step: RepeatedStep) -> str:
    inner = "\n    ".join(map(_inner, step.transaction.statements))
    pause = f"\n    PERFORM pg_sleep({_PAUSE_S});" if step.waits_for is not None else ""
    body = f"""
BEGIN
  LOOP
    EXIT WHEN ({quotes_on_one_line(step.is_done)});
    COMMIT;
    {inner}
    COMMIT;{pause}
  END LOOP;
END
"""
    tag = dollar_tag(body)
    return f"DO {tag}{body}{tag};"


def _behind_lock(transaction: Transaction, lock_wait_ms: int) -> str:
    strong = transaction.strong
    assert strong is not None
    inner = "\n        ".join(map(_inner, transaction.statements))
    locks = [f"SET LOCAL lock_timeout = '5s';\n        EXECUTE {literal(strong.gentle)};"] if strong.gentle else []
    locks.append(f"SET LOCAL lock_timeout = {lock_wait_ms};")
    locks += [f"EXECUTE {literal(strong.strong)};"] if strong.strong else []
    taken = "\n        ".join(locks)
    body = f"""
BEGIN
  LOOP
    IF NOT EXISTS ({quotes_on_one_line(strong.look)}) THEN
      BEGIN
        {taken}
        {inner}
        EXIT;
      EXCEPTION WHEN lock_not_available OR deadlock_detected THEN
        NULL;
      END;
    END IF;
    COMMIT;
    PERFORM pg_sleep({_PAUSE_S});
  END LOOP;
END
"""
    tag = dollar_tag(body)
    return f"DO {tag}{body}{tag};"
