"""How a census looks."""

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from slabrow.core.table.tree import Partition
from slabrow.core.upkeep.findings import Finding
from slabrow.core.values.wording import count, size
from slabrow.show.bounds import BOUNDS_HEADER, bounds_data, bounds_row, held, key_data, key_text
from slabrow.show.findings import finding_data
from slabrow.show.output import Json, Shown, bad, good, heading, note, plain, print_table, table
from slabrow.show.words import MOST_LINES, ends, plural, rows_of
from slabrow.work.census import Census

if TYPE_CHECKING:
    from rich.console import Console

_MOST_FINDINGS = 20


def _data(census: Census) -> Json:
    tree = census.tree
    return {
        "table": tree.spelling,
        "by": str(tree.by),
        "key": [column.text for column in tree.key],
        "exact": census.is_exact,
        "partitions": [_partition_data(partition) for partition in tree.partitions],
        "against": [{"bucket": each.label, "before": each.before, "after": each.after} for each in census.against],
        "findings": [finding_data(finding) for finding in census.findings],
        "notes": list(census.notes),
    }


def _partition_data(partition: Partition) -> Json:
    return {
        "name": partition.spelling,
        "parent": partition.parent,
        **bounds_data(partition.bounds),
        "rows": partition.rows,
        "bytes": partition.bytes,
        "low": key_data(partition.low),
        "high": key_data(partition.high),
        "tablespace": partition.place,
        "elsewhere": partition.server,
    }


def _rows(census: Census) -> tuple[Sequence[str], Iterable[Sequence[Any]]]:
    return ("name", "parent", *BOUNDS_HEADER, "rows", "bytes", "low", "high", "tablespace", "elsewhere"), [
        [
            partition.spelling,
            partition.parent,
            *bounds_row(partition.bounds),
            partition.rows,
            partition.bytes,
            key_data(partition.low),
            key_data(partition.high),
            partition.place,
            partition.server,
        ]
        for partition in census.tree.partitions
    ]


def _text(census: Census, out: "Console") -> None:
    tree = census.tree
    rows = [0 if leaf.rows is None and leaf.is_empty else leaf.rows for leaf in tree.leaves]
    total = None if None in rows else sum(row or 0 for row in rows)
    heading(
        out,
        f"{tree.spelling} by {tree.by} ({', '.join(column.text for column in tree.key)}): "
        f"{plural(len(tree.leaves), 'leaf', 'leaves')}, {rows_of(total, census.is_exact)}, "
        f"{size(sum(leaf.bytes for leaf in tree.leaves))}",
    )
    spread = len({_lies(leaf) for leaf in tree.leaves}) > 1 or any(leaf.server for leaf in tree.leaves)
    told = ("lies in",) if spread else ()
    heads = ("partition", "from (in)", "to (out)", "rows", "bytes", *told, "lowest key", "highest key")
    lines = table(*heads, right=("rows", "bytes"))
    for partition in ends(tree.partitions):
        if partition is None:
            lines.add_row(plain(f"… {len(tree.partitions) - MOST_LINES:,} more, in csv and json"))
            continue
        lines.add_row(
            *map(plain, (partition.spelling, *held(partition.bounds))),
            count(partition.rows),
            size(partition.bytes),
            *([plain(_lies(partition) or "")] if spread else []),
            plain(key_text(partition.low)),
            plain(key_text(partition.high)),
        )
    print_table(out, lines, ("highest key", "lowest key", "bytes"))
    if spread:
        lying: dict[str, int] = {}
        for leaf in tree.leaves:
            place = f"on {leaf.server}" if leaf.server is not None else f"in {leaf.place}"
            lying[place] = lying.get(place, 0) + leaf.bytes
        words = ", ".join(f"{size(many)} {place}" for place, many in lying.items())
        out.print(plain(f"{words}, indexes counted with their partitions."))
    if census.against:
        same = sum(each.before == each.after for each in census.against)
        text = f"{same} of {len(census.against)} counts taken before equal the rows there now"
        out.print(good(text + ".") if same == len(census.against) else bad(text + "."))
    print_findings(census.findings, out)
    for text in census.notes:
        note(out, f"Note: {text}.")


def _lies(partition: Partition) -> str | None:
    """The other server, or the tablespace."""
    return partition.server if partition.server is not None else partition.place


def print_findings(findings: Sequence[Finding], out: "Console") -> None:
    """One line a finding."""
    if not findings:
        out.print(good("No findings."))
        return
    out.print(bad(f"{plural(len(findings), 'finding')}:"))
    for finding in findings[:_MOST_FINDINGS]:
        out.print(plain(f"  {finding.code}: {finding.text}."))
    if len(findings) > _MOST_FINDINGS:
        out.print(plain(f"  … and {len(findings) - _MOST_FINDINGS} more; --format json has them all"))


SHOWN: Shown[Census] = Shown("census", _data, _rows, _text)
