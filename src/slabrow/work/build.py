"""`build`: a new partitioned table with its partitions, keys and indexes, from SQL or like another table (N11, N17)."""

from dataclasses import dataclass, replace
from pathlib import Path

from slabrow.core.sql.lexing import lexemes, statements_in
from slabrow.core.sql.pieces import Piece
from slabrow.core.table.layout import HERE, Layout
from slabrow.core.table.relation import ColumnFact, RelationKind
from slabrow.core.table.shape import Index, KeyChange, Shape, key_changes
from slabrow.core.table.tree import Tree
from slabrow.core.upkeep.planned_partitions import Namer, Planned, divided, due_partitions
from slabrow.core.upkeep.reconcile import reconcile
from slabrow.core.upkeep.statements import Transaction
from slabrow.core.upkeep.upkeep_facts import UpkeepFacts
from slabrow.core.values.errors import LayoutError, Refusal, UsageError
from slabrow.core.values.method import By
from slabrow.core.values.names import NAME_LIMIT, Name
from slabrow.files.reading import read_text
from slabrow.servers.protocols import Session
from slabrow.work import runner
from slabrow.work.context import Context
from slabrow.work.layout_preview import inner_kinds, key_columns


@dataclass(frozen=True, slots=True)
class Source:
    """Where the columns come from: exactly one of a file with CREATE TABLE, or a table that is there.

    without   kinds of constraints that are left out, as `Constraint.kind` has them
    """

    schema_file: Path | None = None
    like: Name | None = None
    without: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class BuildResult:
    """A table to be built, or built. created: the number of partitions, 0 when all were there."""

    layout: Layout
    key_changes: tuple[KeyChange, ...]
    transactions: tuple[Transaction, ...]
    partitions: tuple[str, ...]
    is_done: bool


def build(context: Context, layout: Layout, source: Source, *, go: bool) -> BuildResult:
    """Builds what is missing of the table of `layout`; run again after an interruption it goes on where it stopped.

    Raises Refusal when a plain table of that name exists, UsageError when the columns are not given.
    """
    with context.connected() as session:
        return build_in(context, session, layout, source, go=go)


def build_in(context: Context, session: Session, layout: Layout, source: Source, *, go: bool) -> BuildResult:
    """As `build`, in a session that is open already."""
    with runner.sole(session, [layout.table], context.lock_wait_ms):
        existing = _existing(session, layout)
        result = (
            _new(context, session, layout, source) if existing is None else _rest(context, session, layout, existing)
        )
        if go:
            context.guard_pretended_clock(session.catalogue.moment())
            runner.run(session, result.transactions, context.lock_wait_ms, context.progress, context.say)
        return replace(result, is_done=go)


def _existing(session: Session, layout: Layout) -> Tree | None:
    with session.reading():
        if not session.catalogue.exists(layout.table):
            return None
        found = session.catalogue.relation(layout.table)
    if not found.is_partitioned:
        raise Refusal(
            f"{found.spelling} exists already",
            found=f"it is a {found.kind}",
            fix="`slabrow convert` makes it into a partitioned one"
            if found.kind is RelationKind.TABLE
            else "name another table",
        )
    return session.catalogue.tree(layout.table)


def _new(context: Context, session: Session, layout: Layout, source: Source) -> BuildResult:
    table = _columns(session, layout, source)
    with session.reading():
        role = session.catalogue.current_role()
        taken = session.catalogue.names_in_schema(layout.table.schema)
    facts = [ColumnFact(each.name, each.type_name, each.not_null, each.kind) for each in table.columns]
    key = key_columns(layout, facts, str(layout.table))
    kinds = tuple(column.kind for column in key)
    now = context.now if kinds[0].is_time or layout.by is not By.RANGE else 0
    top = due_partitions(layout, kinds, Namer(layout, kinds[0], NAME_LIMIT, taken), now=now)
    planned = divided(top, layout, inner_kinds(layout, facts, str(layout.table)), NAME_LIMIT)
    if layout.servers:
        return _on_servers(context, session, layout, table, planned, role)
    transactions = session.writer.build(table, layout, planned, role, context.lock_wait_ms)
    return BuildResult(
        layout,
        key_changes(table, layout.full_key),
        tuple(transactions),
        tuple(leaf.name for partition in planned for leaf in partition.leaves),
        False,
    )


def _on_servers(
    context: Context, session: Session, layout: Layout, table: Shape, planned: tuple[Planned, ...], role: str
) -> BuildResult:
    """The table here, and its parts where the layout says. Raises Refusal when that cannot be."""
    _check_servers(session, layout)
    if foreign := [each.name for each in table.constraints if each.kind not in ("p", "u", "c")]:
        raise Refusal(
            f"{layout.table} cannot have {', '.join(foreign)} and parts on other servers",
            found="a table with parts elsewhere has no foreign keys and no exclusion constraints",
            fix="leave them out of its definition",
        )
    keys = _own_keys(session, table)
    bare = replace(table, constraints=tuple(each for each in table.constraints if not each.is_key))
    alone = session.writer.build(bare, layout, (), role, context.lock_wait_ms)
    entries = {entry.name: entry for entry in session.reached()}
    *there, here = session.writer.parts_on_servers(bare, layout, planned, entries, keys, role, context.lock_wait_ms)
    # Stopped before, nothing is here, and the same command begins again; the tables there are found made.
    whole = replace(here, purpose=f"create {layout.table} with its parts",
                    statements=(*(each for one in alone for each in one.statements), *here.statements))  # fmt: skip
    leaves = tuple(leaf.name for partition in planned for leaf in partition.leaves)
    return BuildResult(layout, key_changes(table, layout.full_key), (*there, whole), leaves, False)


def _own_keys(session: Session, table: Shape) -> tuple[Index, ...]:
    """The keys of a table as unique indexes: it can have none itself, and each part has its own."""
    return tuple(
        Index(each.name, f"USING btree ({', '.join(map(session.writer.identifier, each.columns))})", True, each.columns)
        for each in table.constraints
        if each.is_key
    )


def _check_servers(session: Session, layout: Layout) -> None:
    lacking = [
        f"missing for {server}: {each}"
        for server in dict.fromkeys(name for name in layout.servers if name != HERE)
        for each in session.partitions.missing_for(server)
    ]
    if lacking:
        raise Refusal(
            f"the parts of {layout.table} cannot lie on other servers yet",
            found="\n".join(lacking),
            fix="follow each line, then try again",
        )


def _rest(context: Context, session: Session, layout: Layout, tree: Tree) -> BuildResult:
    """The partitions that an interrupted build still owes."""
    facts = session.catalogue.upkeep_facts(tree)
    if layout.servers:
        return _rest_on_servers(context, session, layout, tree, facts)
    now = context.now if tree.kinds[0].is_time or layout.by is not By.RANGE else 0
    creations = [
        action for action in reconcile(layout, tree, now, taken=facts.taken).actions if action.kind == "create"
    ]
    upkeep = session.writer.upkeep(tree, layout, facts, context.lock_wait_ms)
    transactions = [upkeep.transaction(action) for action in creations]
    return BuildResult(layout, (), tuple(transactions), tuple(action.partition.table for action in creations), False)


def _rest_on_servers(context: Context, session: Session, layout: Layout, tree: Tree, facts: UpkeepFacts) -> BuildResult:
    """Each part that is not there any more. Keys are those of a part that lies here."""
    _check_servers(session, layout)
    with session.reading():
        shape = session.catalogue.shape(layout.table)
    missing = [each for each in reconcile(layout, tree, 0, taken=facts.taken).actions if each.kind == "create"]
    planned = tuple(Planned(each.partition.table, each.bounds) for each in missing)
    keys = tuple(Index("", key, True, ()) for key in facts.traits.keys)
    entries = {entry.name: entry for entry in session.reached()}
    parts = session.writer.parts_on_servers(shape, layout, planned, entries, keys, facts.role, context.lock_wait_ms)
    return BuildResult(layout, (), tuple(parts), tuple(each.name for each in planned), False)


def _columns(session: Session, layout: Layout, source: Source) -> Shape:
    if (source.schema_file is None) == (source.like is None):
        raise UsageError(
            f"there is no table {layout.table} yet, and its columns are not known",
            fix="give either --schema FILE.sql with its CREATE TABLE, or --like TABLE",
        )
    if source.like is not None:
        with session.reading():
            like = session.catalogue.shape(source.like)
        kept = tuple(each for each in like.constraints if each.kind not in source.without)
        return _as_new(session, replace(like, constraints=kept), layout.table)
    return _from_sql(session, layout, source.schema_file or Path())


def _as_new(session: Session, like: Shape, name: Name) -> Shape:
    """The shape of another table for a new one: its own owner, and names derived from its own name."""

    # Of a table that a conversion has left, the names and the comment of before are meant.
    was = session.writer.old_table(like.comment)
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


def _from_sql(session: Session, layout: Layout, path: Path) -> Shape:
    """The shape that a file of CREATE TABLE and CREATE INDEX gives: the server reads it and rolls back."""
    text = read_text(path, "schema file", "--schema")
    definitions = statements_in(text, str(path))
    for words in map(_first_words, definitions):
        if not any(words[: len(allowed)] == allowed for allowed in _ALLOWED) or "as select" in " ".join(words):
            raise UsageError(
                f"{path} holds more than a definition",
                found=f"a statement begins with {' '.join(words[:2]).upper()}",
                fix="keep only CREATE TABLE, INDEX, TYPE, DOMAIN and SCHEMA, ALTER TABLE, COMMENT and SET in it",
            )
    made = session.catalogue.shape_from_sql(definitions, layout.table, f"read {path}")
    if made is None:
        raise LayoutError(f"{path} does not create {layout.table}", fix="correct the name in the file or in the layout")
    if serial := [sequence.column for sequence in made.sequences if not sequence.is_identity]:
        raise LayoutError(
            f"{path} gives {', '.join(serial)} a serial type, whose sequence Slabrow does not create",
            fix="write GENERATED BY DEFAULT AS IDENTITY instead",
        )
    return replace(made, sequences=())
