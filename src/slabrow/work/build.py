"""`build`: a new partitioned table with its partitions, keys and indexes, from SQL or like another table (N11, N17)."""

from dataclasses import dataclass, replace
from pathlib import Path

from slabrow.core.sql.lexing import Piece, lexemes, statements_in
from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import KeyChange, Shape, key_changes
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.planned_partitions import Namer, divided, due_partitions
from slabrow.core.upkeep.reconcile import NAME_LIMIT, reconcile
from slabrow.core.upkeep.statements import Transaction
from slabrow.core.values.errors import LayoutError, Refusal, UsageError
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.files.reading import read_text
from slabrow.servers.postgresql.connection import Connection, explained, reading
from slabrow.servers.postgresql.read import catalogue
from slabrow.servers.postgresql.read.shape import shape
from slabrow.servers.postgresql.write import ddl
from slabrow.servers.postgresql.write.conversion import unmarked
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.layout_preview import inner_kinds, key_columns


@dataclass(frozen=True, slots=True)
class Source:
    """Where the columns come from: exactly one of a file with CREATE TABLE, or a table that is there."""

    schema_file: Path | None = None
    like: Name | None = None


@dataclass(frozen=True, slots=True)
class BuildResult:
    """What is to be built, or was. created is the number of partitions; 0 with no transactions: it was all there."""

    layout: Layout
    key_changes: tuple[KeyChange, ...]
    transactions: tuple[Transaction, ...]
    partitions: tuple[str, ...]
    is_done: bool


def build(context: Context, layout: Layout, source: Source, *, go: bool) -> BuildResult:
    """Builds what is missing of the table of `layout`; run again after an interruption it goes on where it stopped.

    Raises Refusal when a plain table of that name exists, UsageError when the columns are not given.
    """
    with context.connected() as connection, runner.sole(connection, [layout.table], context.lock_wait_ms):
        existing = _existing(connection, layout)
        result = (
            _new(context, connection, layout, source)
            if existing is None
            else _rest(context, connection, layout, existing)
        )
        if go:
            context.guard_pretended_clock(catalogue.moment(connection))
            runner.run(connection, result.transactions, context.lock_wait_ms, context.progress, context.say)
        return replace(result, is_done=go)


def _existing(connection: Connection, layout: Layout) -> Tree | None:
    with reading(connection):
        if not catalogue.exists(connection, layout.table):
            return None
        found = catalogue.relation(connection, layout.table)
    if not catalogue.is_partitioned(found):
        what = catalogue.KINDS_OF_RELATION.get(found.kind, "relation")
        raise Refusal(
            f"{found.spelling} exists already",
            found=f"it is a {what}",
            fix="`slabrow convert` makes it into a partitioned one" if what == "table" else "name another table",
        )
    return catalogue.tree(connection, layout.table)


def _new(context: Context, connection: Connection, layout: Layout, source: Source) -> BuildResult:
    table = _columns(connection, layout, source)
    with reading(connection):
        role = catalogue.current_role(connection)
        taken = catalogue.names_in_schema(connection, layout.table.schema)
    facts = [catalogue.ColumnFact(column.name, column.type_name, column.not_null) for column in table.columns]
    key = key_columns(layout, facts, str(layout.table))
    kinds = tuple(column.kind for column in key)
    now = context.now if kinds[0].is_time or layout.by is not By.RANGE else 0
    top = due_partitions(layout, kinds, Namer(layout, kinds[0], NAME_LIMIT, taken), now=now)
    planned = divided(top, layout, inner_kinds(layout, facts, str(layout.table)), NAME_LIMIT)
    transactions = ddl.build(table, layout, planned, role, context.lock_wait_ms)
    return BuildResult(
        layout,
        key_changes(table, layout.full_key),
        tuple(transactions),
        tuple(leaf.name for partition in planned for leaf in partition.leaves),
        False,
    )


def _rest(context: Context, connection: Connection, layout: Layout, tree: Tree) -> BuildResult:
    """The partitions that an interrupted build still owes."""
    with reading(connection):
        taken = catalogue.names_in_schema(connection, tree.table.schema)
        owner = catalogue.owner(connection, catalogue.relation(connection, tree.table))
        role = catalogue.current_role(connection)
    now = context.now if tree.kinds[0].is_time or layout.by is not By.RANGE else 0
    creations = [action for action in reconcile(layout, tree, now, taken=taken).actions if action.kind == "create"]
    upkeep = ddl.upkeep_of(tree, layout, context.lock_wait_ms, owner, role)
    transactions = [upkeep.transaction(action) for action in creations]
    return BuildResult(layout, (), tuple(transactions), tuple(action.partition.table for action in creations), False)


def _columns(connection: Connection, layout: Layout, source: Source) -> Shape:
    if (source.schema_file is None) == (source.like is None):
        raise UsageError(
            f"there is no table {layout.table} yet, and its columns are not known",
            fix="give either --schema FILE.sql with its CREATE TABLE, or --like TABLE",
        )
    if source.like is not None:
        with reading(connection):
            like = shape(connection, source.like)
        return _as_new(like, layout.table)
    return _from_sql(connection, layout, source.schema_file or Path())


def _as_new(like: Shape, name: Name) -> Shape:
    """The shape of another table for a new one: its own owner, and names derived from its own name."""

    # Of a table that a conversion has left, the names and the comment of before are meant.
    was = unmarked(like.comment)
    stem = like.name.table if was is None else was[0].table

    def renamed(old: str) -> str:
        bare = old if was is None else old.removesuffix("_before")
        return bare.replace(stem, name.table) if stem in bare else f"{name.table}_{bare}"

    return replace(
        like,
        name=name,
        comment=like.comment if was is None else was[1],
        obstacles=(),
        granted_by_default=(),
        grants=(),
        sequences=(),
        constraints=tuple(replace(each, name=renamed(each.name)) for each in like.constraints),
        indexes=tuple(replace(each, name=renamed(each.name)) for each in like.indexes),
    )


_ALLOWED = (
    ("create", "table"), ("create", "unlogged", "table"), ("create", "index"), ("create", "unique", "index"),
    ("create", "type"), ("create", "domain"), ("create", "schema"), ("alter", "table"), ("comment", "on"), ("set",),
)  # fmt: skip


def _first_words(statement: str) -> tuple[str, ...]:
    """The words of a statement outside of parentheses: CREATE TABLE … AS would run what follows it."""
    words: list[str] = []
    depth = 0
    for each in lexemes(statement):
        depth += (each.text == "(") - (each.text == ")")
        if depth == 0 and each.piece in (Piece.WORD, Piece.NAME):
            words.append(each.value)
    is_table = words[:1] == ["create"] and "table" in words[1:3]
    return (*words, *(["as select"] if is_table and "as" in words else []))


def _from_sql(connection: Connection, layout: Layout, path: Path) -> Shape:
    """The shape that a file of CREATE TABLE and CREATE INDEX gives: the server reads it and rolls back."""
    text = read_text(path, "schema file", "--schema")
    definitions = statements_in(text)
    for words in map(_first_words, definitions):
        if not any(words[: len(allowed)] == allowed for allowed in _ALLOWED) or "as select" in " ".join(words):
            raise UsageError(
                f"{path} holds more than a definition",
                found=f"a statement begins with {' '.join(words[:2]).upper()}",
                fix="keep only CREATE TABLE, INDEX, TYPE, DOMAIN and SCHEMA, ALTER TABLE, COMMENT and SET in it",
            )
    with explained(f"read {path}"), connection.transaction(force_rollback=True):
        connection.execute("SET LOCAL lock_timeout = '2s'")
        for definition in definitions:
            connection.execute(definition.encode(), prepare=False)
        if not catalogue.exists(connection, layout.table):
            raise LayoutError(
                f"{path} does not create {layout.table}", fix="correct the name in the file or in the layout"
            )
        made = shape(connection, layout.table)
    if serial := [sequence.column for sequence in made.sequences if not sequence.is_identity]:
        raise LayoutError(
            f"{path} gives {', '.join(serial)} a serial type, whose sequence would have to be made apart",
            fix="write GENERATED BY DEFAULT AS IDENTITY instead",
        )
    return replace(made, sequences=())
