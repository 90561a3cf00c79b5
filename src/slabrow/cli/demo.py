"""`demo`: the whole job on made-up data. Starts a private server, loads it, and runs the commands of the story."""

import argparse
import json
import os
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, closing, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from slabrow.cli.codes import FINE
from slabrow.cli.common import add_family
from slabrow.core.values.errors import Refusal, Stopped, UsageError

if TYPE_CHECKING:
    from slabrow.demo.story import StoryStep
    from slabrow.demo.telling import Tell
    from slabrow.demo.walks import Walk
    from slabrow.servers.private_protocols import PrivateServer
    from slabrow.servers.protocols import Family


# A private server has so little memory that its tables do not fit, as the federation's will not next year.
_MEMORY_A_ROW = 34  # bytes
_LEAST_MEMORY = 16 << 20


def add_options(parser: argparse.ArgumentParser) -> None:
    """Adds the options of `demo`."""
    parser.add_argument("--dsn", metavar="URL", help="use this server: only a schema of the demo's own is touched")
    parser.add_argument(
        "--rows",
        type=int,
        metavar="N",
        help="sensor readings, up to 100,000,000 (default: as many as suit the family, 2,000,000 or 500,000)",
    )
    add_family(parser)
    parser.add_argument("--keep-server", action="store_true", help="leave the server and the data there afterwards")
    parser.add_argument("--stop", action="store_true", help="end the server that --keep-server left")
    parser.add_argument("--files", metavar="FOLDER", help="keep the demo's files here: layout, workload, log, picture")
    parser.add_argument("--load-only", action="store_true", help="load the data and stop: nothing is partitioned yet")
    parser.add_argument("--quiet", action="store_true", help="no progress on standard error")
    parser.add_argument("--verbose", action="store_true", help="show where a fault is")


def run(options: argparse.Namespace) -> int:
    """Runs `demo` and shows its result. Returns the exit code."""
    from slabrow.demo.data import MOST_READINGS

    if options.stop:
        return _stop()
    family = _family(options)
    walk = _walk_of(family)
    if options.rows is None:
        options.rows = walk.rows
    if not 1_000 <= options.rows <= MOST_READINGS:
        raise UsageError(f"--rows {options.rows} is out of range", fix=f"give 1000 to {MOST_READINGS}")
    if options.keep_server and not options.dsn:
        _refuse_second_server()
    with ExitStack() as ending:
        dsn, server = _server(options, family, ending)
        folder = _folder(options, server, ending)
        with _as_user_would(dsn, folder):
            _prepare(options, walk, dsn, server)
            if not options.load_only:
                began = time.monotonic()
                _walk(walk)
                page = _keep_page(options, server)
                print(f"\nThe walk took {time.monotonic() - began:.0f} s. The page lies at {page}")
        if options.keep_server:
            _leave(walk, dsn, server, folder, options.load_only)
            ending.pop_all()
    return FINE


def _family(options: argparse.Namespace) -> "Family":
    """Of the server that is named, else the family that is, else the first."""
    from slabrow.servers.families import FAMILIES, family_named, family_of

    if options.dsn:
        family = family_of(options.dsn)
        if options.family and family_named(options.family) is not family:
            raise UsageError("--dsn and --family mean different servers", fix="leave --family out")
    else:
        family = family_named(options.family) if options.family else FAMILIES[0]
    family.load()
    return family


def _walk_of(family: "Family") -> "Walk":
    from slabrow.core.sql import dialect
    from slabrow.demo.walks import walk_of

    dialect.speak(family.traits.dialect)
    return walk_of(family.traits.name)


def _server(options: argparse.Namespace, family: "Family", ending: ExitStack) -> tuple[str, "PrivateServer | None"]:
    from slabrow.demo.load import refuse_existing, unload
    from slabrow.servers.families import open_session

    if options.dsn:
        with closing(open_session(options.dsn)) as session:
            refuse_existing(session)

        def drop() -> None:
            with closing(open_session(options.dsn)) as session:
                unload(session)

        ending.callback(drop)
        return options.dsn, None
    server = family.private.start(max(_LEAST_MEMORY, options.rows * _MEMORY_A_ROW))
    ending.callback(server.stop)
    until = "stays until `slabrow demo --stop`" if options.keep_server else "is gone when this ends"
    memory = max(_LEAST_MEMORY, options.rows * _MEMORY_A_ROW) >> 20
    print(
        f"A private {family.traits.name} {server.version} with {memory} MB of memory runs in {server.folder}; "
        f"it {until}."
    )
    return server.dsn, server


def _folder(options: argparse.Namespace, server: "PrivateServer | None", ending: ExitStack) -> Path:
    """Where the demo's files are: the folder named, else one that goes with the server."""
    if options.files:
        folder = Path(options.files).absolute()
        folder.mkdir(parents=True, exist_ok=True)
    elif server is not None:
        folder = server.folder / "demo"
        folder.mkdir()
    else:
        folder = Path(tempfile.mkdtemp(prefix="slabrow-demo-"))
        ending.callback(shutil.rmtree, folder, ignore_errors=True)
    return folder


@contextmanager
def _as_user_would(dsn: str, folder: Path) -> Iterator[None]:
    """The commands of the walk are given no --dsn and no folder: they find both, as they would in a shell."""
    before, variable = Path.cwd(), os.environ.get("SLABROW_DSN")
    os.chdir(folder)
    os.environ["SLABROW_DSN"] = dsn
    try:
        yield
    finally:
        os.chdir(before)
        os.environ.pop("SLABROW_DSN")
        if variable is not None:
            os.environ["SLABROW_DSN"] = variable


def _prepare(options: argparse.Namespace, walk: "Walk", dsn: str, server: "PrivateServer | None") -> None:
    from slabrow.demo.data import Demo
    from slabrow.files.query_file import parse_queries
    from slabrow.servers.families import open_session

    Path("slabrow.toml").write_text(walk.layouts, encoding="utf-8")
    Path("workload.sql").write_text(walk.workload, encoding="utf-8")
    Path("proofs.sql").write_text(walk.proofs, encoding="utf-8")
    demo, began = Demo(options.rows), time.monotonic()
    print(
        f"Loading a federation of beekeeping cooperatives: {demo.readings:,} readings of {demo.hives:,} hives over "
        f"14 months, {demo.events:,} events, {demo.inspections:,} inspections. All of it is made up."
    )
    with closing(open_session(dsn)) as session, _telling(options) as tell:
        walk.load(session, demo, tell)
        print(f"Loaded and indexed in {time.monotonic() - began:.0f} s.")
        if server is not None and walk.log is not None:
            tell("running the workload, so that there is a server log")
            queries = parse_queries(walk.workload, "workload.sql")
            runs = walk.log(session, queries, server.log, Path("server-log.csv"))
            print(
                f"The federation's workload ran on it, {runs} statements: server-log.csv is the server's log of that."
            )
    if walk.differs:
        print(walk.differs)
    print("The files slabrow.toml (what the tables should be) and workload.sql (its queries) lie beside it.")


@contextmanager
def _telling(options: argparse.Namespace) -> "Iterator[Tell]":
    import sys

    if options.quiet or not sys.stderr.isatty():
        yield lambda _: None
        return
    from rich.console import Console

    with Console(stderr=True).status("loading") as status:
        yield status.update


def _walk(walk: "Walk") -> None:
    from rich.text import Text

    from slabrow.show.output import console

    for number, stage in enumerate(walk.stages, 1):
        out = console()
        out.print()
        out.rule(
            Text(f"{number} of {len(walk.stages)} · {stage.title}", style="bold cyan"),
            align="left",
            characters="━",
            style="cyan",
        )
        out.print(Text(stage.saying))
        for step in stage.steps:
            _take(step, walk.writes)


def _take(step: "StoryStep", writes: tuple[str, ...]) -> None:
    import shlex

    from rich.text import Text

    from slabrow.cli.main import main
    from slabrow.show.output import console

    out = console()
    out.print()
    out.print(Text(f"$ slabrow {shlex.join(step.arguments)}", style="bold yellow"), soft_wrap=True)
    if step.is_busy:
        from slabrow.demo.busy_writer import BusyWriter

        with BusyWriter(os.environ["SLABROW_DSN"], writes) as writer:
            code = main(list(step.arguments))
        if writer.failed:
            raise Stopped("the writer of the demo failed", found=writer.failed, fix="please report this")
        said = f"Meanwhile a writer made {writer.writes:,} changes. The longest time that one took"
        out.print(Text(f"{said}: {writer.longest_ms:.0f} ms.", style="bold"))
    else:
        code = main(list(step.arguments))
    if code not in step.codes:
        raise Stopped(
            f"the demo ended early: `slabrow {shlex.join(step.arguments)}` gave exit code {code}",
            fix="please report this",
        )
    if step.old_way:
        from slabrow.demo.old_way import delete_and_roll_back

        out.print(Text(str(delete_and_roll_back(os.environ["SLABROW_DSN"])), style="bold"))
    if code:
        out.print(Text(f"(exit code {code}) {step.ending}", style="bright_black"))


def _leave(walk: "Walk", dsn: str, server: "PrivateServer | None", folder: Path, is_plain: bool) -> None:
    print()
    if server is not None:
        state = _state_file()
        state.parent.mkdir(parents=True, exist_ok=True)
        state.write_text(json.dumps({"pid": server.main_pid, "folder": str(server.folder), "dsn": dsn}))
        state.chmod(0o600)
        server.let_go()
        print("`slabrow demo --stop` ends the server and removes its data. To try next:")
        print(f"  cd {folder}")
        print(f"  export SLABROW_DSN='{dsn}'")
    else:
        print(f"Schema apiary stays in your database, and the demo's files in {folder}. To try next, there:")
    for command in walk.next_when_plain if is_plain else walk.next:
        print(f"  {command}")


def _keep_page(options: argparse.Namespace, server: "PrivateServer | None") -> Path:
    """Where the page stays: beside the demo's files, or, when these go, where programs keep what outlives them."""
    page = Path("report.html").absolute()
    if options.files or (options.keep_server and server is not None) or (options.keep_server and options.dsn):
        return page
    kept = _state_file().with_name("demo-report.html")
    kept.parent.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(page, kept)
    return kept


def _state_file() -> Path:
    base = os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state"
    return Path(base) / "slabrow" / "demo.json"


def _refuse_second_server() -> None:
    from slabrow.servers.families import family_of

    state = _state()
    if state and family_of(str(state["dsn"])).private.is_running(int(str(state["pid"])), Path(str(state["folder"]))):
        raise Refusal(
            "a demo server is running already",
            found=f"pid {state['pid']} in {state['folder']}",
            fix="end it with: slabrow demo --stop",
        )


def _state() -> dict[str, object] | None:
    try:
        state = json.loads(_state_file().read_text())
    except (OSError, ValueError):
        return None
    return state if isinstance(state, dict) and {"pid", "folder", "dsn"} <= state.keys() else None


def _stop() -> int:
    from slabrow.servers.families import family_of

    state = _state()
    if state is None:
        print("There is no demo server to stop.")
        return FINE
    running = family_of(str(state["dsn"])).private.stop_by_pid(int(str(state["pid"])), Path(str(state["folder"])))
    _state_file().unlink(missing_ok=True)
    print(
        "The demo server is stopped, its data are removed."
        if running
        else "The demo server was not running any more; what was left of it is removed."
    )
    return FINE
