"""The steps by which a partitioned table gives up its keys, and each of its leaves keeps one of its own.

A table with a key takes no foreign partition (PostgreSQL manual, CREATE FOREIGN TABLE: unique indexes on the parent are
not allowed). Dropping the key of the table drops those of its leaves too: so theirs are built before, beside writers.
"""

from slabrow.core.upkeep.elsewhere import FarFacts
from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.upkeep.steps import Piece, SpreadStep, Step
from slabrow.core.values.names import NAME_LIMIT, Name, fit
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.locking import ALL_OUT, strong_lock
from slabrow.servers.postgresql.quoting import identifier, literal

OWN_KEY = "_own_key"


def giving_up_keys(root: Name, facts: FarFacts) -> tuple[Step, ...]:
    """Nothing when the table has no key. Its first key is the one that leaves keep."""
    if not facts.keys:
        return ()
    kept = facts.keys[0].index
    building = [piece for leaf, is_keyed in facts.leaves if not is_keyed for piece in _building(leaf, kept)]
    parted = tuple(leaf for leaf, _ in facts.leaves)
    taken = tuple(
        Statement(
            f"ALTER TABLE {quoting.table(root)} DROP CONSTRAINT {identifier(key.name)}"
            if key.is_constraint
            else f"DROP INDEX {quoting.table(root.sibling(key.name))}"
        )
        for key in facts.keys
    )
    names = quoting.array([literal(key.name) for key in facts.keys], "text")
    gone = (
        f"SELECT NOT EXISTS (SELECT FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid WHERE x.indrelid = "
        f"{literal(str(root))}::regclass AND i.relname = ANY ({names}))"
    )
    return (
        SpreadStep(
            name="give each partition a key of its own",
            pieces=tuple(building),
            transaction=Transaction("say that each has one", ()),
            is_done=gone,
            is_serial=True,
        ),
        Step(
            name="give up the keys of the table",
            transaction=Transaction(
                f"give up the keys of {root}",
                taken,
                strong=strong_lock(root, (root, *parted), ALL_OUT),
                locks=3 * (1 + len(parted)),
            ),
            is_done=gone,
        ),
    )


def _building(leaf: Name, definition: str) -> tuple[Piece, Piece]:
    """What a stopped build has left is dropped first: an invalid index keeps nothing unique.

    definition   what follows ON table
    """
    index = leaf.sibling(fit(leaf.table, OWN_KEY, NAME_LIMIT))
    named = literal(str(index))
    valid = f"SELECT coalesce((SELECT indisvalid FROM pg_index WHERE indexrelid = to_regclass({named})), {{}})"
    dropped = Transaction(
        f"drop what a stopped build of {index} has left",
        (Statement(f"DROP INDEX CONCURRENTLY IF EXISTS {quoting.table(index)}"),), is_atomic=False, is_patient=True,
    )  # fmt: skip
    made = Transaction(
        f"build {index}",
        (Statement(
            f"CREATE UNIQUE INDEX CONCURRENTLY {identifier(index.table)} ON {quoting.table(leaf)} {definition}"
        ),), is_atomic=False, is_patient=True,
    )  # fmt: skip
    return Piece(dropped, valid.format("true")), Piece(made, valid.format("false"))
