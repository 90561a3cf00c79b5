"""The steps that bring a parent's foreign keys to tables that are to become its partitions."""

from collections.abc import Iterator, Sequence

from slabrow.core.table.shape import Shape
from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.upkeep.steps import SpreadStep
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.locking import WRITERS_OUT, look_only
from slabrow.servers.postgresql.live.records import Record
from slabrow.servers.postgresql.quoting import identifier


def foreign_key_steps(
    record: Record, shape: Shape, name: str, tables: Sequence[Name], what: str
) -> Iterator[SpreadStep]:
    """Those of the parent, checked before the swap: attaching takes them in, and would else read all rows.

    They come late: from then on a referenced row cannot go while a copy that is not in step still refers to it.
    shape: of the parent; name: of the first step; what: of its mark
    """
    adding, checking = [], []
    for foreign in (each for each in shape.constraints if each.kind == "f"):
        for table in tables:
            place, key = quoting.table(table), identifier(foreign.name)
            definition = foreign.definition.removesuffix(" NOT VALID")
            added = Statement(f"ALTER TABLE {place} ADD CONSTRAINT {key} {definition} NOT VALID")
            checked = Statement(f"ALTER TABLE {place} VALIDATE CONSTRAINT {key}")
            looked = look_only((foreign.referenced,), WRITERS_OUT)
            purpose = f"{foreign.name} of {table}"
            adding.append(record.piece((added,), f"{what}: add {purpose}", f"add {purpose}", looked))
            checking.append(record.piece((checked,), f"{what}: check {purpose}", f"check {purpose}"))
    for pieces, verb in ((adding, "added"), (checking, "checked")):
        if pieces:
            yield SpreadStep(
                name=name if verb == "added" else name.replace("add", "check"),
                pieces=tuple(pieces),
                transaction=Transaction(f"say that they are {verb}", (record.mark(f"{what} {verb}"),)),
                is_done=record.is_marked(f"{what} {verb}"),
            )
