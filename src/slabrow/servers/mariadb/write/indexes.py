"""Makes and drops indexes: one statement, beside readers and writers.

ALGORITHM=INPLACE, LOCK=NONE: where the server cannot do it so, it refuses.
"""

from __future__ import annotations

from slabrow.core.sql.index_statement import IndexAsked
from slabrow.core.sql.lexing import lexemes
from slabrow.core.sql.pieces import Piece
from slabrow.core.table.index_matrix import IndexFound, IndexMatrix
from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.upkeep.steps import Step
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import NAME_LIMIT, Name, fit, unused
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.quoting import identifier, literal

_ONLINE = "ALGORITHM=INPLACE, LOCK=NONE"
_PRIMARY = "PRIMARY"


def creating(matrix: IndexMatrix, asked: IndexAsked) -> tuple[Name, tuple[Step, ...]]:
    """On all partitions at once; the server does it wholly or not at all. Raises UsageError for more than an index."""
    _refuse_more(asked.rest)
    table = matrix.table
    ending = "_".join((*(column or "expr" for column in asked.columns), "idx"))
    here = {index.name.table for index in matrix.of_table}
    chosen = unused(fit(table.table, f"_{ending}", NAME_LIMIT), ending, here, NAME_LIMIT)
    name = _PRIMARY if asked.constraint == "p" else asked.name or chosen
    what = "PRIMARY KEY" if name == _PRIMARY else f"{'UNIQUE ' if asked.is_unique else ''}INDEX {identifier(name)}"
    sql = f"ALTER TABLE {quoting.table(table)} WAIT 1 ADD {what} {asked.rest}, {_ONLINE}"
    made = Transaction(f"make the index {name} of {table}", (Statement(sql),), is_atomic=False)
    return Name(table.schema, name), (Step(name="make the index", transaction=made, is_done=_is_there(table, name)),)


def _refuse_more(rest: str) -> None:
    """Behind a comma outside of all brackets, ALTER TABLE would go on to do something else."""
    depth = 0
    for each in lexemes(rest):
        depth += {"(": 1, ")": -1}.get(each.text, 0)
        is_hidden = (
            each.piece is Piece.COMMENT or not each.is_closed
        )  # such a comment may be executed, or hide the rest
        if is_hidden or depth < 0 or (depth == 0 and each.text == ","):
            raise UsageError(
                "this is more than one index", found=rest[:80], fix="make one index at a time, without comments"
            )


def dropping(matrix: IndexMatrix, index: IndexFound) -> tuple[Step, ...]:
    """From all partitions at once."""
    name = index.name.table
    sql = f"ALTER TABLE {quoting.table(matrix.table)} WAIT 1 DROP INDEX {identifier(name)}, {_ONLINE}"
    dropped = Transaction(f"drop the index {name} of {matrix.table}", (Statement(sql),), is_atomic=False)
    is_done = f"SELECT NOT ({_is_there(matrix.table, name)})"
    return (Step(name="drop the index", transaction=dropped, is_done=is_done),)


def _is_there(table: Name, name: str) -> str:
    named = f"table_schema = {literal(table.schema or '')} AND table_name = {literal(table.table)}"
    return f"SELECT EXISTS (SELECT 1 FROM information_schema.statistics WHERE {named} AND index_name = {literal(name)})"
