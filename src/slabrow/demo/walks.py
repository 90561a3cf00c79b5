"""The demo of each server family: the same federation, its queries in the family's SQL, the stages that it can do."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from slabrow.demo import backquoted, load, schema, story, workload
from slabrow.demo.data import DEFAULT_READINGS, Demo
from slabrow.demo.story import Stage
from slabrow.demo.telling import Tell
from slabrow.files.query_file import FileQuery
from slabrow.servers.protocols import Session


@dataclass(frozen=True, slots=True, kw_only=True)
class Walk:
    """rows     readings, unless others are asked for
    load      makes the tables and fills them
    log       runs the workload and copies the server's log of it; None where the server's own log is left alone
    writes    what a writer does while a table is converted
    differs   what the family does otherwise, in words; empty for the first one
    """

    rows: int
    layouts: str
    workload: str
    proofs: str
    stages: tuple[Stage, ...]
    next: tuple[str, ...]
    next_when_plain: tuple[str, ...]
    writes: tuple[str, ...]
    load: Callable[[Session, Demo, Tell], None]
    log: Callable[[Session, tuple[FileQuery, ...], Path, Path], int] | None
    differs: str = ""


_WALKS = {
    "PostgreSQL": Walk(
        rows=DEFAULT_READINGS,
        layouts=schema.LAYOUTS,
        workload=workload.WORKLOAD,
        proofs=workload.PROOFS,
        stages=story.STAGES,
        next=story.NEXT,
        next_when_plain=story.NEXT_WHEN_PLAIN,
        writes=schema.WRITES,
        load=load.load,
        log=load.run_workload,
    ),
    "MariaDB": Walk(
        rows=500_000,
        layouts=backquoted.FILE,
        workload=backquoted.WORKLOAD,
        proofs=backquoted.PROOFS,
        stages=backquoted.STAGES,
        next=backquoted.NEXT,
        next_when_plain=backquoted.NEXT_WHEN_PLAIN,
        writes=backquoted.WRITES,
        load=backquoted.load,
        log=None,
        differs=backquoted.DIFFERS,
    ),
}


def walk_of(family: str) -> Walk:
    """Of a family, by its name."""
    return _WALKS[family]
