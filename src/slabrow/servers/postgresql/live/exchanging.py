"""Two tables exchange their places: names, sequences, and all that is bound to a table by its number.

Forward and back are the same exchange: one table goes away under a passing name, the other comes to the place.
Everything happens in one transaction, behind a lock on the table in use, and none of it looks at rows.
"""

from collections.abc import Iterator
from dataclasses import dataclass

from slabrow.core.table.belongings import Belongings
from slabrow.core.table.shape import Constraint, Shape
from slabrow.core.upkeep.statements import Statement
from slabrow.core.values.names import Name, parse_name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.names import passing
from slabrow.servers.postgresql.quoting import identifier, literal

_ENABLING = {"O": "ENABLE", "A": "ENABLE ALWAYS", "R": "ENABLE REPLICA", "D": "DISABLE"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Exchange:
    """shape         of the table in the place: names of keys, indexes, sequences
    belongings    definitions that bind to whatever has the place when they are run
    away, away_suffix   how the table that leaves is called afterwards, and how its indexes and sequences end
    come, come_suffix   alike of the table that comes, before
    is_furnished  whether the one that comes has triggers, policies and row security of its own already
    has_parts     whether the one that comes is partitioned; leaves: its leaves
    version       the server's major version
    """

    shape: Shape
    belongings: Belongings
    away: Name
    away_suffix: str
    come: Name
    come_suffix: str
    is_furnished: bool
    has_parts: bool
    leaves: tuple[Name, ...]
    version: int

    @property
    def place(self) -> Name:
        """The name that is exchanged."""
        return self.shape.name

    @property
    def beside(self) -> tuple[Name, ...]:
        """Other relations that the exchange locks for a moment."""
        views = [parse_name(view.name) for view in self.belongings.views]
        children = [key.child for key in self.belongings.incoming]
        referred = [each.referenced for each in self.shape.constraints if each.kind == "f"]
        return tuple(dict.fromkeys((*views, *children, *referred)))

    def statements(self) -> Iterator[Statement]:
        """All of it, in order."""
        place, come = quoting.table(self.place), quoting.table(self.come)
        for key in self.belongings.incoming:
            yield Statement(f"ALTER TABLE {quoting.table(key.child)} DROP CONSTRAINT {identifier(key.name)}")
        for foreign in self._foreign:
            # It would refuse deletions of rows that the table which leaves still has until they are brought over.
            yield Statement(f"ALTER TABLE {place} DROP CONSTRAINT IF EXISTS {identifier(foreign.name)}")
        if self.belongings.triggers:
            yield Statement(f"ALTER TABLE {place} DISABLE TRIGGER USER")
        yield from self._sequences()
        yield from self.renamed(self.place, "", self.away_suffix)
        yield Statement(f"ALTER TABLE {place} RENAME TO {identifier(self.away.table)}")
        yield Statement(f"ALTER TABLE {come} RENAME TO {identifier(self.place.table)}")
        yield from self.renamed(self.place, self.come_suffix, "")
        yield from self.bound_again()
        yield from self._foreign_keys()

    def bound_again(self) -> Iterator[Statement]:
        """What is bound to the table by its number, bound to the one that has the name now."""
        place, away = quoting.table(self.place), quoting.table(self.away)
        yield from self._furnished()
        for published in self.belongings.publications:
            name = identifier(published.name)
            if self.has_parts and not published.by_root:
                yield Statement(f"ALTER PUBLICATION {name} SET (publish_via_partition_root = true)")
            yield Statement(f"ALTER PUBLICATION {name} DROP TABLE {away}")
            yield Statement(f"ALTER PUBLICATION {name} ADD TABLE {place}{published.tail}")
        for bound in (*self.belongings.views, *self.belongings.functions):
            yield Statement(bound.sql)
        for key in self.belongings.incoming:
            yield Statement(
                f"ALTER TABLE {quoting.table(key.child)} ADD CONSTRAINT {identifier(key.name)} "
                f"{_unchecked(key.definition)}"
            )

    @property
    def _foreign(self) -> list[Constraint]:
        return [each for each in self.shape.constraints if each.kind == "f"]

    def _sequences(self) -> Iterator[Statement]:
        for sequence in self.shape.sequences:
            if sequence.is_identity:
                coming = literal(str(passing(sequence.name, self.come_suffix)))
                yield Statement(
                    f"SELECT setval({coming}::regclass, last_value, is_called) FROM {quoting.table(sequence.name)}"
                )
            else:
                yield Statement(
                    f"ALTER SEQUENCE {quoting.table(sequence.name)} OWNED BY "
                    f"{quoting.table(self.come)}.{identifier(sequence.column)}"
                )

    def renamed(self, table: Name, before: str, after: str) -> Iterator[Statement]:
        """Keys, indexes, sequences and statistics of the table, from names with one ending to names with another."""

        def pair(name: Name) -> tuple[Name, Name]:
            return (passing(name, before) if before else name, passing(name, after) if after else name)

        for constraint in self.shape.constraints:
            if constraint.is_key:
                one, other = pair(table.sibling(constraint.name))
                yield Statement(
                    f"ALTER TABLE {quoting.table(table)} RENAME CONSTRAINT {identifier(one.table)} "
                    f"TO {identifier(other.table)}"
                )
        for index in self.shape.indexes:
            one, other = pair(table.sibling(index.name))
            yield Statement(f"ALTER INDEX {quoting.table(one)} RENAME TO {identifier(other.table)}")
        for sequence in self.shape.sequences:
            if sequence.is_identity:
                one, other = pair(sequence.name)
                yield Statement(f"ALTER SEQUENCE {quoting.table(one)} RENAME TO {identifier(other.table)}")
        for statistics in self.belongings.statistics:
            one, other = pair(statistics.name)
            yield Statement(f"ALTER STATISTICS {quoting.table(one)} RENAME TO {identifier(other.table)}")

    def _furnished(self) -> Iterator[Statement]:
        place = quoting.table(self.place)
        for trigger in self.belongings.triggers:
            if not self.is_furnished:
                yield Statement(trigger.sql)
            if self.is_furnished or trigger.enabled != "O":
                yield Statement(f"ALTER TABLE {place} {_ENABLING[trigger.enabled]} TRIGGER {identifier(trigger.name)}")
        if self.is_furnished:
            return
        for policy in self.belongings.policies:
            yield Statement(policy.sql)
        for how in self.belongings.row_security:
            yield Statement(f"ALTER TABLE {place} {how} ROW LEVEL SECURITY")
        for _, grant in self.belongings.sequence_grants:
            yield Statement(grant)
        for name, comment in self.belongings.constraint_comments:
            if not any(each.name == name and each.kind == "f" for each in self.shape.constraints):
                yield Statement(f"COMMENT ON CONSTRAINT {identifier(name)} ON {place} IS {literal(comment)}")

    def _foreign_keys(self) -> Iterator[Statement]:
        """Not checked yet, so that no row is read. Before PostgreSQL 18 such a key is refused on a partitioned table,
        and stands on its leaves until it is checked.
        """
        tables = self.leaves if self.has_parts and self.version < 18 else (self.place,)
        for foreign in self._foreign:
            for table in tables:
                yield Statement(
                    f"ALTER TABLE {quoting.table(table)} ADD CONSTRAINT {identifier(foreign.name)} "
                    f"{_unchecked(foreign.definition)}"
                )

    def checks(self) -> Iterator[tuple[str, str, tuple[Name, ...]]]:
        """What has to be checked afterwards: (what, statement, the tables whose writers it may block for a moment)."""
        comments = dict(self.belongings.constraint_comments)
        for foreign in self._foreign:
            name = identifier(foreign.name)
            on_leaves = self.has_parts and self.version < 18
            for table in self.leaves if on_leaves else (self.place,):
                yield (
                    f"check {foreign.name} on {table}",
                    f"ALTER TABLE {quoting.table(table)} VALIDATE CONSTRAINT {name}",
                    (),
                )
            if on_leaves:
                # Takes in the checked ones of the leaves, and reads no row.
                yield (
                    f"add {foreign.name} to {self.place}",
                    f"ALTER TABLE {quoting.table(self.place)} ADD CONSTRAINT {name} {foreign.definition}",
                    (foreign.referenced, self.place, *self.leaves),
                )
            if foreign.name in comments:
                said = literal(comments[foreign.name])
                sql = f"COMMENT ON CONSTRAINT {name} ON {quoting.table(self.place)} IS {said}"
                yield f"comment on {foreign.name}", sql, ()
        for key in self.belongings.incoming:
            if not key.definition.endswith(_UNCHECKED):
                child, name = quoting.table(key.child), identifier(key.name)
                yield f"check {key.name} of {key.child}", f"ALTER TABLE {child} VALIDATE CONSTRAINT {name}", ()


_UNCHECKED = " NOT VALID"


def _unchecked(definition: str) -> str:
    return definition.removesuffix(_UNCHECKED) + _UNCHECKED
