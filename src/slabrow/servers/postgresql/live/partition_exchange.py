"""Partitions leave their parent and others come, in one transaction behind a lock, and no row is looked at."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from slabrow.core.table.bounds import Bounds, CatchAll
from slabrow.core.upkeep.live_plan import BOUNDS_CHECK
from slabrow.core.upkeep.redivision import RedivisionPlan
from slabrow.core.upkeep.statements import Statement
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.following import dollar_tag
from slabrow.servers.postgresql.quoting import identifier, literal


@dataclass(frozen=True, slots=True)
class PartitionExchange:
    """stage   what those are attached to that are not in use"""

    plan: RedivisionPlan
    stage: Name

    def statements(
        self,
        leaving: Sequence[Name],
        left_as: Sequence[Name],
        coming: Sequence[Name],
        places: Sequence[Name],
        bounds: Sequence[Bounds],
    ) -> Iterator[Statement]:
        """The statements of the exchange itself. A catch-all comes last: the others are not looked for in it."""
        has_foreign_keys = any(each.kind == "f" for each in self.plan.shape.constraints)
        parent, stage = quoting.table(self.plan.parent), quoting.table(self.stage)
        for name in coming:
            yield Statement(f"ALTER TABLE {stage} DETACH PARTITION {quoting.table(name)}")
        for name, left in zip(leaving, left_as, strict=True):
            yield Statement(f"ALTER TABLE {parent} DETACH PARTITION {quoting.table(name)}")
            if has_foreign_keys:
                # It would refuse deletions of rows that this copy still refers to.
                yield Statement(_without_foreign_keys(name))
            yield Statement(f"ALTER TABLE {quoting.table(name)} RENAME TO {identifier(left.table)}")
        last = sorted(zip(coming, places, bounds, strict=True), key=lambda each: isinstance(each[2], CatchAll))
        for name, place, held in last:
            if name != place:
                yield Statement(f"ALTER TABLE {quoting.table(name)} RENAME TO {identifier(place.table)}")
            said = quoting.bounds(held, len(self.plan.key))
            yield Statement(f"ALTER TABLE {parent} ATTACH PARTITION {quoting.table(place)} {said}")
            yield Statement(f"ALTER TABLE {quoting.table(place)} DROP CONSTRAINT IF EXISTS {BOUNDS_CHECK}")


def _without_foreign_keys(name: Name) -> str:
    table = quoting.table(name)
    body = f"""
DECLARE
  each record;
BEGIN
  FOR each IN SELECT conname FROM pg_catalog.pg_constraint
      WHERE conrelid = {literal(table)}::regclass AND contype = 'f' AND conparentid = 0 LOOP
    EXECUTE format({literal(f"ALTER TABLE {table.replace('%', '%%')} DROP CONSTRAINT %I")}, each.conname);
  END LOOP;
END
"""
    tag = dollar_tag(body)
    return f"DO {tag}{body}{tag}"
