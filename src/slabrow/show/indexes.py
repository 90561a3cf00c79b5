"""How the indexes of a partitioned table look, and what is done about them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from slabrow.core.table.index_matrix import IndexFound, IndexMatrix, OnLeaf
from slabrow.core.upkeep.steps import SpreadStep
from slabrow.core.values.wording import count, size
from slabrow.show.output import Json, Shown, bad, good, heading, note, plain, table
from slabrow.show.statements import transaction_data
from slabrow.show.steps import step_data, step_transactions, text_steps_done
from slabrow.show.words import plural
from slabrow.work.indexes import IndexResult

if TYPE_CHECKING:
    from rich.console import Console

_MOST_FAULTS = 20
_KEYS = {"p": "primary key", "u": "unique key", "x": "exclusion"}


def _data(result: IndexResult) -> Json:
    matrix = result.matrix
    return {
        "doing": result.doing,
        "table": str(matrix.table),
        "leaves": len(matrix.leaves),
        "faults": matrix.faults,
        "state": "done" if result.is_done else "proposed",
        "indexes": [_index_data(matrix, index) for index in matrix.of_table],
        "alone": [
            {"definition": index.definition, "unique": index.is_unique, "on": [str(name) for name in tables]}
            for index, tables in matrix.alone()
        ],
        "left_over": [str(index.name) for index in matrix.left_over],
        "longest_lock_ms": result.longest_lock_ms,
        "steps": [step_data(step) for step in result.steps],
        "transactions": transaction_data(step_transactions(result.work.steps)),
    }


def _index_data(matrix: IndexMatrix, index: IndexFound) -> Json:
    row = matrix.row(index)
    return {
        "name": str(index.name),
        "definition": index.definition,
        "unique": index.is_unique,
        "key": _KEYS.get(index.constraint),
        "valid": index.is_valid,
        "there": sum(state is OnLeaf.THERE for _, state, _ in row),
        "bytes": sum(found.bytes for _, state, found in row if found is not None and state is not OnLeaf.OTHER),
        "faults": [
            {"partition": str(leaf.name), "state": str(state), "index": None if found is None else str(found.name)}
            for leaf, state, found in row
            if state is not OnLeaf.THERE
        ],
    }


def _rows(result: IndexResult) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("index", "partition", "state", "bytes"), [
        [str(index.name), str(leaf.name), str(state), None if found is None else found.bytes]
        for index in result.matrix.of_table
        for leaf, state, found in result.matrix.row(index)
    ]


def _text(result: IndexResult, out: Console) -> None:
    matrix = result.matrix
    if not result.is_done:
        _text_proposed(result, out)
        return
    if result.steps:
        text_steps_done(result.steps, result.longest_lock_ms, out)
        out.print()
    heading(
        out,
        f"{matrix.table}: {plural(len(matrix.of_table), 'index', 'indexes')} on "
        f"{plural(len(matrix.leaves), 'leaf', 'leaves')}",
    )
    lines = table("index", "on", "there", "missing", "invalid", "not attached", "other", "size",
                  right=("there", "missing", "invalid", "not attached", "other", "size"), folds=("on",))  # fmt: skip
    for index in matrix.of_table:
        row = matrix.row(index)
        states = Counter(state for _, state, _ in row)
        said = (f"{_KEYS.get(index.constraint, '')} " if index.constraint else "") + index.definition
        lines.add_row(
            plain(index.name.table),
            plain(said),
            *(count(states[state]) if states[state] else "" for state in
              (OnLeaf.THERE, OnLeaf.MISSING, OnLeaf.INVALID, OnLeaf.LOOSE, OnLeaf.OTHER)),
            size(sum(found.bytes for _, state, found in row if found is not None and state is not OnLeaf.OTHER)),
        )  # fmt: skip
    out.print(lines)
    _text_faults(matrix, out)
    for index, tables in matrix.alone():
        where = f"{tables[0].table} alone" if len(tables) == 1 else plural(len(tables), "leaf", "leaves")
        note(out, f"Note: on {where}: {index.name.table} {index.definition}")
    for index in matrix.left_over:
        note(out, f"Note: {index.name} is left of a build that was broken off; --mend drops it.")
    if not matrix.faults:
        out.print(good("Every index is on every leaf."))
    elif result.doing == "look":
        note(out, f"To build what is missing, beside writers: slabrow index {matrix.table} --mend --go")


def _text_faults(matrix: IndexMatrix, out: Console) -> None:
    faults = [
        (index, leaf, state, found)
        for index in matrix.of_table
        for leaf, state, found in matrix.row(index)
        if state is not OnLeaf.THERE
    ]
    for index in matrix.of_table:
        if index.is_valid:
            continue
        if all(state is OnLeaf.THERE for _, state, _ in matrix.row(index)):
            # Minor releases before 2025 look at an index anew only when another one is attached to it.
            text = "is invalid, though every leaf has it: a newer minor release of the server mends that with --mend"
        else:
            text = "is invalid: not every leaf has it"
        out.print(bad(f"{index.name.table} {text}."))
    for index, leaf, state, found in faults[:_MOST_FAULTS]:
        by = f": {found.name.table} {found.definition}" if found is not None else ""
        out.print(plain(f"  {leaf.name.table}: {index.name.table} {state}{by}"))
    if len(faults) > _MOST_FAULTS:
        out.print(plain(f"  … and {len(faults) - _MOST_FAULTS:,} more, in csv and json"))


_DOING = {
    "mend": "To build what is missing on {table}, beside writers",
    "create": "To build a new index on {table}, beside writers",
    "drop": "To drop an index of {table}",
}


def _text_proposed(result: IndexResult, out: Console) -> None:
    heading(out, _DOING[result.doing].format(table=result.matrix.table))
    lines = table("", "step", "partitions", "statement", right=("", "partitions"), folds=("statement",))
    for number, step in enumerate(result.work.steps, 1):
        pieces = step.pieces if isinstance(step, SpreadStep) else ()
        first = pieces[0].transaction if pieces else step.transaction
        sql = transaction_data([first])[0]["statements"][-1]
        more = f" … and {len(pieces) - 1:,} more like it" if len(pieces) > 1 else ""
        lines.add_row(str(number), plain(step.name), count(len(pieces)) if pieces else "", plain(sql + more))
    out.print(lines)
    note(out, "Nothing has been done. --go does it; a run that is stopped is gone on with by the same command.")


def draw_indexes(matrix: IndexMatrix, path: Path) -> None:
    """Indexes down, leaves across: what is as it should be is dark, what is not is warm."""
    import numpy as np
    from matplotlib.colors import ListedColormap
    from matplotlib.patches import Patch

    from slabrow.show.picture import INK, WARM, new_figure, save

    states = (OnLeaf.THERE, OnLeaf.LOOSE, OnLeaf.OTHER, OnLeaf.INVALID, OnLeaf.MISSING)
    colours = (INK, "#7fa9b8", "#c9c2b5", WARM, "#f1d9c3")
    cells = np.array([[states.index(state) for _, state, _ in matrix.row(index)] for index in matrix.of_table] or [[0]])
    figure = new_figure(path)
    axes = figure.subplots()
    axes.imshow(cells, cmap=ListedColormap(colours), vmin=0, vmax=len(states) - 1, aspect="auto",
                interpolation="nearest")  # fmt: skip
    axes.set_yticks(range(len(matrix.of_table)), [index.name.table.replace("$", r"\$") for index in matrix.of_table])
    step = max(1, -(-len(matrix.leaves) // 40))
    axes.set_xticks(
        range(0, len(matrix.leaves), step),
        [leaf.name.table.replace("$", r"\$") for leaf in matrix.leaves][::step],
        rotation=60, ha="right", rotation_mode="anchor", fontsize=8,
    )  # fmt: skip
    for at in range(1, len(matrix.of_table)):
        axes.axhline(at - 0.5, color="white", linewidth=2)
    counted = Counter(states[cell] for cell in cells.ravel().tolist())
    axes.legend(
        handles=[Patch(color=colour, label=f"{state}: {counted[state]:,}")
                 for state, colour in zip(states, colours, strict=True) if counted[state]],
        loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=5, frameon=False,
    )  # fmt: skip
    axes.set_title(f"{matrix.table}: which index is on which leaf", loc="left", pad=34)
    save(figure, path)


SHOWN: Shown[IndexResult] = Shown("index", _data, _rows, _text)
