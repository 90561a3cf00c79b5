"""The steps that bring an index to every leaf of a partitioned table, or take one away, while writers go on.

The server builds no index of a partitioned table concurrently. So it is made on the table alone, where it is invalid;
built concurrently on each leaf; and attached, those of partitions that are divided themselves before those above them.
The server then calls the one above valid (PostgreSQL manual, CREATE INDEX and ALTER INDEX). An invalid index must not
be attached: it could no longer be dropped. So it is built anew first.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from slabrow.core.sql.index_statement import IndexAsked
from slabrow.core.table.index_matrix import IndexFound, IndexMatrix, OnLeaf, TablePart
from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.upkeep.steps import NOT_YET, Piece, SpreadStep, Step
from slabrow.core.values.names import NAME_LIMIT, Name, fit, unused
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.locking import ALL_OUT, lock_alone
from slabrow.servers.postgresql.quoting import identifier, literal

_ATTACHED_AT_ONCE = 100


def mending(matrix: IndexMatrix, taken: frozenset[str], only: Name | None = None) -> tuple[Step, ...]:
    """Every index of the table comes to every leaf. only: this index alone."""
    names = _Names(set(taken))
    wanted = [index for index in matrix.of_table if only is None or index.name == only]
    steps = [step for index in wanted for step in _Building(matrix, index, names).steps()]
    if matrix.left_over and only is None:
        dropped = tuple(
            _concurrently(f"drop {index.name}", f"DROP INDEX CONCURRENTLY IF EXISTS {quoting.table(index.name)}")
            for index in matrix.left_over
        )
        steps.insert(0, _spread("drop what broken builds have left", dropped))
    return tuple(steps)


def creating(matrix: IndexMatrix, asked: IndexAsked, taken: frozenset[str]) -> tuple[Name, tuple[Step, ...]]:
    """The name of a new index, and its steps on the table and every leaf."""
    names = _Names(set(taken))
    ending = "_".join((*((column or "expr" for column in asked.columns) if asked.constraint != "p" else ()),
                       {"p": "pkey", "u": "key"}.get(asked.constraint, "idx")))  # fmt: skip
    name = matrix.table.sibling(asked.name or names.new(matrix.table, ending))
    definition = f"USING btree ({quoting.columns(asked.columns)})" if asked.constraint else asked.rest
    wanted = IndexFound(
        name=name, table=matrix.table, definition=definition, columns=asked.columns, is_unique=asked.is_unique,
        is_valid=False, constraint=asked.constraint, attached_to=None, bytes=0,
    )  # fmt: skip
    return name, tuple(_Building(matrix, wanted, names, is_new=True).steps())


def dropping(matrix: IndexMatrix, index: IndexFound) -> tuple[Step, ...]:
    """An index leaves the table and all leaves, behind a short lock: the server does not drop it concurrently."""
    tables = (matrix.table, *(part.name for part in matrix.parts if part.parent is not None))
    transaction = Transaction(
        f"drop {index.name}",
        (Statement(f"DROP INDEX {quoting.table(index.name)}"),),
        strong=lock_alone(tables, ALL_OUT),
        locks=2 * len(tables),
    )
    gone = f"SELECT to_regclass({literal(str(index.name))}) IS NULL"
    return (Step(name=f"drop {index.name.table}", transaction=transaction, is_done=gone),)


@dataclass(slots=True)
class _Names:
    taken: set[str]

    def new(self, table: Name, ending: str) -> str:
        name = unused(fit(table.table, f"_{ending}", NAME_LIMIT), f"{table} {ending}", self.taken, NAME_LIMIT)
        self.taken.add(name)
        return name


@dataclass(slots=True)
class _Building:
    """One index of the table. is_new: it is not there yet."""

    matrix: IndexMatrix
    index: IndexFound
    names: _Names
    is_new: bool = False
    _known: dict[Name, Name] = field(default_factory=dict)

    def steps(self) -> Iterator[Step]:
        """Those that are still to be done."""
        index, called = self.index, self.index.name.table
        made, built, keyed, attached = [], [], [], []
        if self.is_new and not index.constraint:
            made.append(self._only(matrix_part(self.matrix, self.matrix.table), index.name))
        self._known[self.matrix.table] = index.name
        for part in self.matrix.inner:
            state, found = self._found(part)
            name = found.name if found is not None and state is not OnLeaf.OTHER else self._new_name(part)
            self._known[part.name] = name
            if index.constraint:
                continue
            if found is None or state is OnLeaf.OTHER:
                made.append(self._only(part, name))
            if state is not OnLeaf.THERE and (found is None or found.attached_to is None):
                attached.append((part.level, self._attach(part, name)))
        for leaf in self.matrix.leaves:
            state, found = self._found(leaf)
            if state is OnLeaf.THERE:
                continue
            name = found.name if found is not None and state is not OnLeaf.OTHER else self._new_name(leaf)
            if state in (OnLeaf.MISSING, OnLeaf.OTHER):
                built.append(self._build(leaf, name))
            elif state is OnLeaf.INVALID:
                built.append(_concurrently(f"build {name} anew", f"REINDEX INDEX CONCURRENTLY {quoting.table(name)}"))
            if index.constraint and (found is None or not found.constraint):
                keyed.append(self._key(leaf, name))
            elif found is None or found.attached_to is None:
                attached.append((leaf.level, self._attach(leaf, name)))
        if made:
            yield _spread(f"make {called} on the table alone", tuple(made))
        if built:
            yield _spread(f"build {called} on the partitions", tuple(built))
        if keyed:
            yield _spread(f"make keys of {called}", tuple(keyed))
        if index.constraint:
            if self.is_new:
                yield self._constraint()
            return
        if not attached and not self.is_new and not index.is_valid:
            # All are attached, and one was invalid then: attached again, the server looks at them anew.
            attached += [(leaf.level, self._attach(leaf, found.name)) for leaf in self.matrix.leaves[:1]
                         if (found := self._found(leaf)[1]) is not None]  # fmt: skip
        for level in sorted({level for level, _ in attached}, reverse=True):
            below = _together([sql for at, sql in attached if at == level])
            label = f"attach {called}" if level == 1 else f"attach {called}, level {level}"
            yield replace(_spread(label, below), is_serial=True)

    def _found(self, part: TablePart) -> tuple[OnLeaf, IndexFound | None]:
        above = self._known.get(part.parent) if part.parent is not None else None
        return self.matrix.like(self.index, part.name, above)

    def _new_name(self, part: TablePart) -> Name:
        columns = "_".join(column or "expr" for column in self.index.columns)
        ending = {"p": "pkey", "u": f"{columns}_key"}.get(self.index.constraint, f"{columns}_idx")
        return part.name.sibling(self.names.new(part.name, ending))

    @property
    def _unique(self) -> str:
        return "UNIQUE " if self.index.is_unique else ""

    def _only(self, part: TablePart, name: Name) -> Piece:
        sql = (
            f"CREATE {self._unique}INDEX {identifier(name.table)} ON ONLY {quoting.table(part.name)} "
            f"{self.index.definition}"
        )
        return Piece(Transaction(f"make {name}", (Statement(sql),)), _is_there(name))

    def _build(self, leaf: TablePart, name: Name) -> Piece:
        sql = (
            f"CREATE {self._unique}INDEX CONCURRENTLY {identifier(name.table)} ON {quoting.table(leaf.name)} "
            f"{self.index.definition}"
        )
        return _concurrently(f"build {name}", sql)

    def _key(self, leaf: TablePart, name: Name) -> Piece:
        kind = "PRIMARY KEY" if self.index.constraint == "p" else "UNIQUE"
        table = quoting.table(leaf.name)
        sql = f"ALTER TABLE {table} ADD CONSTRAINT {identifier(name.table)} {kind} USING INDEX {identifier(name.table)}"
        return Piece(
            Transaction(f"make {name} a key", (Statement(sql),), strong=lock_alone((leaf.name,), ALL_OUT)), NOT_YET
        )

    def _constraint(self) -> Step:
        """The table's own takes in those of the leaves."""
        kind = "PRIMARY KEY" if self.index.constraint == "p" else "UNIQUE"
        table, name = quoting.table(self.matrix.table), identifier(self.index.name.table)
        sql = f"ALTER TABLE {table} ADD CONSTRAINT {name} {kind} ({quoting.columns(self.index.columns)})"
        tables = tuple(part.name for part in self.matrix.parts)
        transaction = Transaction(
            f"add {self.index.name} to the table",
            (Statement(sql),),
            strong=lock_alone(tables, ALL_OUT),
            locks=3 * len(tables),
        )
        return Step(name=f"add {self.index.name.table} to the table", transaction=transaction, is_done=NOT_YET)

    def _attach(self, part: TablePart, name: Name) -> str:
        assert part.parent is not None
        above = quoting.table(self._known[part.parent])
        return f"ALTER INDEX {above} ATTACH PARTITION {quoting.table(name)}"


def matrix_part(matrix: IndexMatrix, name: Name) -> TablePart:
    """The part of that name."""
    return next(part for part in matrix.parts if part.name == name)


def _concurrently(purpose: str, sql: str) -> Piece:
    """A concurrent build waits for old transactions, and nobody waits for it."""
    return Piece(Transaction(purpose, (Statement(sql),), False, is_patient=True), NOT_YET)


def _together(statements: list[str]) -> tuple[Piece, ...]:
    """Attaching takes no time and blocks nobody: many in one transaction."""
    some = [statements[at : at + _ATTACHED_AT_ONCE] for at in range(0, len(statements), _ATTACHED_AT_ONCE)]
    return tuple(
        Piece(Transaction(f"attach {len(each)} indexes", tuple(map(Statement, each))), NOT_YET) for each in some
    )


def _spread(name: str, pieces: tuple[Piece, ...]) -> SpreadStep:
    return SpreadStep(name=name, pieces=pieces, transaction=Transaction(name, ()), is_done=NOT_YET)


def _is_there(name: Name) -> str:
    return f"SELECT to_regclass({literal(str(name))}) IS NOT NULL"
