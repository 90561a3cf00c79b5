"""The options that `split` and `merge` share, and how both are run."""

import argparse
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.cli.codes import FINE, FOUND
from slabrow.cli.common import add_common, context, parse_wait, progress, write_scripts
from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name, parse_name

if TYPE_CHECKING:
    from slabrow.core.table.layout import Layout
    from slabrow.work.context import Context
    from slabrow.work.reshaping.redivision_plan import SplitOptions


@dataclass(frozen=True, slots=True)
class Relocating:
    """Where a partition is moved to, and what may be lost for it. All empty for a move that has begun."""

    tablespace: str | None = None
    elsewhere: str | None = None
    gives_up_key: bool = False
    is_still_written: bool = False
    workload: tuple[Path, ...] = ()


def add_live(live: "argparse._ArgumentGroup") -> None:
    """Adds the options of work on a table in use."""
    live.add_argument(
        "--speed",
        metavar="SPEED",
        default="normal",
        help="gentle, normal, full, or a number of rows a second (default normal)",
    )
    live.add_argument(
        "--wait-for-snapshots",
        metavar="TIME",
        default="10min",
        help="how long transactions that began before the copy are waited for; 0: not at all (default 10min)",
    )
    live.add_argument(
        "--pause-before-swap", action="store_true", help="stop before the swap; changes go on being recorded"
    )


def add_shared(parser: argparse.ArgumentParser) -> None:
    """Adds the options of both."""
    add_live(parser.add_argument_group("while the table is in use"))
    which = parser.add_argument_group("one that is under way, or done").add_mutually_exclusive_group()
    which.add_argument("--status", action="store_true", help="say where it stands")
    which.add_argument(
        "--undo", action="store_true", help="bring the old partitions back, with all that was written since"
    )
    which.add_argument("--give-up", action="store_true", help="take everything away again, before the swap")
    which.add_argument("--drop-old", action="store_true", help="drop the old partitions that are kept")
    add_common(
        parser,
        table=False,
        changes=True,
        deadline=True,
        lock_wait="100ms",
        script="write it as SQL instead: a folder of psql files, one for each phase",
    )


def run_shared(
    options: argparse.Namespace,
    names: Sequence[str],
    split: "SplitOptions | None",
    moved: Relocating | None = None,
) -> int:
    """Runs one and shows its result. Returns the exit code."""
    others = options.status or options.undo or options.give_up or options.drop_old
    options.script_is_folder = True
    if options.script is not None and others:
        raise UsageError(
            "--script writes it from its beginning to its end",
            fix="write it before it begins: the way back, letting go and giving up are among its files",
        )
    deadline = None if options.lock_deadline is None else parse_wait(options.lock_deadline)
    asked = replace(context(options), lock_deadline_ms=deadline)
    from slabrow.files.layout_file import read_ledger_schema
    from slabrow.show.output import show
    from slabrow.show.redivision import SHOWN
    from slabrow.work.pace import parse_speed
    from slabrow.work.reshaping.redivision import opened
    from slabrow.work.reshaping.redivision_result import RedivisionOptions

    wait = 0.0 if options.wait_for_snapshots in ("0", "0s") else parse_wait(options.wait_for_snapshots) / 1_000
    settings = RedivisionOptions(
        split=split,
        speed=parse_speed(options.speed),
        wait_for_snapshots_s=wait,
        pause_before_swap=options.pause_before_swap,
        relocates=moved is not None,
        tablespace=moved.tablespace if moved is not None else None,
        elsewhere=moved.elsewhere if moved is not None else None,
        gives_up_key=moved is not None and moved.gives_up_key,
        is_still_written=moved is not None and moved.is_still_written,
        workload=moved.workload if moved is not None else (),
    )
    schema, wanted = read_ledger_schema(asked.layout_file), [parse_name(name) for name in names]

    def layout_of(table: Name) -> "Layout | None":
        return layout_named(asked, table)

    if options.script is not None:
        with opened(asked, schema, settings, wanted, layout_of, alone=False) as run:
            return write_scripts(Path(options.script), run.scripts())
    with (
        progress(options, asked) as watched,
        opened(watched, schema, settings, wanted, layout_of, alone=options.go) as run,
    ):
        if options.status:
            result = run.status()
        elif options.undo:
            result = run.undo(go=options.go)
        elif options.give_up:
            result = run.give_up(go=options.go)
        elif options.drop_old:
            result = run.let_go(go=options.go)
        else:
            result = run.divide(go=options.go)
    show(SHOWN[settings.kind], result, options.format, options.save)
    return FINE if options.status or result.is_done else FOUND


def layout_named(asked: "Context", table: Name) -> "Layout | None":
    """Of a table, where the layout file is there and has one."""
    return replace(asked, table=str(table)).layout_or_none()
