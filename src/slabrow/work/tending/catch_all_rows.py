"""What lies in a catch-all: rows that move into partitions to come, values that get one, and what stays and why."""

from collections.abc import Sequence
from dataclasses import dataclass

from slabrow.core.table.bounds import CatchAll, beyond_all
from slabrow.core.table.layout import Layout
from slabrow.core.table.tree import Partition, Tree
from slabrow.core.upkeep.actions import Action, Create, Sweep
from slabrow.core.upkeep.findings import Finding
from slabrow.core.values.key_values import Value
from slabrow.core.values.method import By
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.connection import Connection
from slabrow.servers.postgresql.read import catalogue, row_counts

MOST_NEW_VALUES = 50  # of a list, in one run: more are no list


@dataclass(frozen=True, slots=True)
class Sifted:
    """actions  creations whose rows lie in the catch-all have become sweeps
    findings  what will stay there, and why
    rows      how many lie there that belong elsewhere, or nowhere
    """

    actions: tuple[Action, ...]
    findings: tuple[Finding, ...] = ()
    rows: int = 0


def new_values(connection: Connection, layout: Layout, tree: Tree) -> tuple[tuple[Value, ...], list[Finding]]:
    """For a list with a partition for each value: the values that lie in the catch-all and have none yet."""
    catch_all = tree.catch_all
    if not layout.takes_new_values or catch_all is None:
        return (), []
    column = catalogue.ColumnFact(tree.key[0].text, tree.key[0].type_name, tree.key[0].not_null)
    values = row_counts.some_values(connection, catch_all.name, column, MOST_NEW_VALUES + 1)
    if len(values) <= MOST_NEW_VALUES:
        return tuple(values), []
    text = (
        f"{catch_all.spelling} holds more than {MOST_NEW_VALUES} values without a partition: write `groups` for "
        "those that need one, or divide the table by hash"
    )
    return (), [Finding("drift", text, catch_all.spelling)]


def sifted(connection: Connection, layout: Layout, tree: Tree, actions: Sequence[Action]) -> Sifted:
    """What lies in the catch-all, against what is going to be made."""
    catch_all = tree.catch_all
    if catch_all is None or layout.by is By.HASH or not _holds_rows(connection, tree, catch_all):
        return Sifted(tuple(actions))
    creations = [action for action in actions if isinstance(action, Create) and not isinstance(action.bounds, CatchAll)]
    key = tuple(column.name or column.text for column in tree.key)
    try:
        conditions = [quoting.condition(creation.bounds, key) for creation in creations]
        outside = [
            "false" if beyond is None else quoting.condition(beyond, key)
            for beyond in beyond_all([bounds for _, bounds in tree.ranges], [each.bounds for each in creations])
        ]
    except ValueError:
        return Sifted(tuple(actions))
    if layout.by is By.LIST and not creations:
        return Sifted(tuple(actions))  # what no list names belongs into the catch-all of a list
    *found, early, late, nulls, every = row_counts.lying_in(
        connection,
        catch_all.name,
        key[0],
        [*conditions, *outside, f"{quoting.identifier(key[0])} IS NULL", "true"],
    )
    lying = dict(zip(creations, found, strict=True))
    replaced: list[Action] = []
    for action in actions:
        rows = lying.get(action) if isinstance(action, Create) else None
        if rows is None or not rows.rows or not isinstance(action, Create):
            replaced.append(action)
            continue
        reason = f"it was missing: {rows.rows:,} rows with keys from {rows.low} to {rows.high} fell into the catch-all"
        replaced.append(
            Sweep(action.table, action.partition, action.bounds, reason, catch_all.name, rows.rows, rows.low or "",
                  rows.high or "", action.inner)
        )  # fmt: skip
    moving = sum(each.rows for each in found)
    staying = every.rows - moving
    if not staying or layout.by is By.LIST:
        return Sifted(tuple(replaced), rows=moving)
    words = [f"{nulls.rows:,} without a key"] if nulls.rows else []
    words += [f"{early.rows:,} from before the first partition (late: {early.low} to {early.high})"] * bool(early.rows)
    words += [f"{late.rows:,} beyond the last (a clock ahead: {late.low} to {late.high})"] * bool(late.rows)
    between = staying - nulls.rows - early.rows - late.rows
    words += [f"{between:,} where a partition is missing that the layout does not make"] * (between > 0)
    text = f"{catch_all.spelling} keeps {staying:,} rows that no partition of this layout takes: {', '.join(words)}"
    return Sifted(tuple(replaced), (Finding("catch_all_rows", text, catch_all.spelling),), every.rows)


def _holds_rows(connection: Connection, tree: Tree, catch_all: Partition) -> bool:
    return row_counts.any_rows(connection, [leaf.name for leaf in tree.leaves_of(catch_all)])
