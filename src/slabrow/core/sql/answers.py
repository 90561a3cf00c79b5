"""Facts about values that only a server knows: the values of constant expressions, and the order of values.

A prediction looks up answers as it needs them. A question that has no answer yet is noted, and the condition counts as
not understood; whoever has a server puts the questions to it (one round for many statements) and predicts again.
Without a server nobody asks, and the rules of core/sql/constants.py are all there is.
"""

from dataclasses import dataclass, field

from slabrow.core.sql.when import When

Order = tuple[str, str]  # a type as SQL, and the collation as SQL or nothing


@dataclass(frozen=True, slots=True)
class Answer:
    """The value of a constant. text: as the server prints it, None for NULL; type_name: as format_type spells it.

    collation  of a text, as SQL
    elements   of an array, in their order; None where it is none. type_name is then that of the elements
    """

    text: str | None
    type_name: str
    when: When
    elements: tuple[str | None, ...] | None = None
    collation: str | None = None


@dataclass(frozen=True, slots=True)
class HashPlace:
    """Which remainder a key has among the hash partitions of a table.

    parent   the table, as the server's regclass spells it
    key      texts, one for each column, of these types
    """

    parent: str
    modulus: int
    key: tuple[str | None, ...]
    types: tuple[str, ...]


@dataclass(slots=True)
class Answers:
    """Of one session. A question that the server could not answer has the answer None.

    version   the server's major one: what its planner makes of a few expressions differs
    """

    version: int = 0

    constants: dict[str, Answer | None] = field(default_factory=dict)
    arrays: dict[str, Answer | None] = field(default_factory=dict)
    ranks: dict[Order, dict[str, int]] = field(default_factory=dict)
    places: dict[HashPlace, int | None] = field(default_factory=dict)
    asked_constants: set[str] = field(default_factory=set)
    asked_arrays: set[str] = field(default_factory=set)
    asked_ranks: dict[Order, set[str]] = field(default_factory=dict)
    asked_places: set[HashPlace] = field(default_factory=set)

    def constant(self, sql: str) -> Answer | None:
        """None where there is none, or not yet."""
        if sql not in self.constants:
            self.asked_constants.add(sql)
            return None
        return self.constants[sql]

    def array(self, sql: str) -> Answer | None:
        """As `constant`, of an array with its elements."""
        if sql not in self.arrays:
            self.asked_arrays.add(sql)
            return None
        return self.arrays[sql]

    def rank(self, order: Order, text: str) -> int | None:
        """The place of a value among those that were asked about: equal values have one rank."""
        known = self.ranks.get(order, {})
        if text not in known:
            self.asked_ranks.setdefault(order, set()).add(text)
        return known.get(text)

    def place(self, asked: HashPlace) -> int | None:
        """Where a value lies among the other values of its order; None when the question has no answer."""
        if asked not in self.places:
            self.asked_places.add(asked)
        return self.places.get(asked)

    @property
    def open(self) -> int:
        """How many questions have no answer yet."""
        ranks = sum(len(texts - self.ranks.get(order, {}).keys()) for order, texts in self.asked_ranks.items())
        return (
            len(self.asked_constants - self.constants.keys())
            + len(self.asked_arrays - self.arrays.keys())
            + len(self.asked_places - self.places.keys())
            + ranks
        )
