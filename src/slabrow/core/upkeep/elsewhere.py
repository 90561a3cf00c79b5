"""Partitions whose rows lie on another server, behind the same table (N50). Pure."""

from dataclasses import dataclass, field

from slabrow.core.values.names import Name


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """Another server that holds partitions.

    name     as the layout file has it, and the database: its foreign server has the same name
    dsn      how Slabrow reaches it; never shown
    schema   where tables are made there; None: in the schema that they have here
    """

    name: str
    dsn: str = field(repr=False)  # it may hold a password
    schema: str | None = None


@dataclass(frozen=True, slots=True)
class FarTable:
    """Where the rows of a partition lie on another server.

    server    the name of its `Elsewhere`
    table     there
    comes     whether it is the partition that comes; else the one that leaves
    is_plain  whether all its columns have types that every server has, so that rows may go in the binary form
    """

    server: str
    table: Name
    comes: bool = False
    is_plain: bool = False


@dataclass(frozen=True, slots=True)
class OwnKey:
    """A unique key of a partitioned table.

    name        of the constraint, or of the index where there is no constraint
    definition  as the server spells the constraint, or else the index
    index       what follows ON table in CREATE INDEX
    """

    name: str
    definition: str
    index: str

    @property
    def is_constraint(self) -> bool:
        """Whether it is dropped as a constraint; else as an index."""
        return not self.definition.startswith("CREATE ")


@dataclass(frozen=True, slots=True, kw_only=True)
class FarFacts:
    """What has to be known before a partition of a table goes to another server.

    missing       what the database, or the role, needs first, each with the statement that gives it
    keys          the table's own keys, the primary key first: none may be left
    others        what else the table cannot have with such a partition, each with what to do
    leaves        its leaves that hold rows here, each with whether it has a unique key of its own
    is_plain      as in `FarTable`
    """

    missing: tuple[str, ...] = ()
    keys: tuple[OwnKey, ...] = ()
    others: tuple[str, ...] = ()
    leaves: tuple[tuple[Name, bool], ...] = ()
    is_plain: bool = False


@dataclass(frozen=True, slots=True)
class FarLook:
    """A table on another server as that server has it.

    rows        the planner's estimate, None when never analysed; bytes: table and indexes together
    missing     columns that the partition has here, and that are missing there
    checks      names of checks that the partition has here, and that nothing keeps there
    is_guarded  whether a check there keeps rows out that do not belong into the partition
    faults      what Slabrow cannot mend, each a sentence with what to do
    error       why that server could not be asked; empty when it answered
    """

    table: FarTable
    rows: int | None = None
    bytes: int = 0
    missing: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()
    is_guarded: bool = True
    faults: tuple[str, ...] = ()
    error: str = ""

    @property
    def can_be_mended(self) -> bool:
        """Whether Slabrow can add something that the table lacks."""
        return bool(self.missing or self.checks or not self.is_guarded)

    def said(self) -> tuple[str, ...]:
        """The faults that can be mended, each a sentence."""
        words = [f"its column {name} is missing there, and queries fail" for name in self.missing]
        words += [f"its check {name} is not kept there" for name in self.checks]
        return (*words, *(() if self.is_guarded else ("no check guards its bounds there",)))
