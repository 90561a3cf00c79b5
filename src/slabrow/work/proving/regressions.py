"""An earlier result of `prove`, and what got worse since."""

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from slabrow.core.values.errors import UsageError
from slabrow.files.reading import json_document
from slabrow.work.proving.proof import ProveResult

_LATER = ("plan", "start", "run", "never")


def read_result(path: Path) -> Mapping[tuple[str, str], Mapping[str, Any]]:
    """Its entries by query and table. Raises UsageError when the file is no result of `prove`."""
    fix = "write one with: slabrow prove --format json > FILE.json"
    document = json_document(path, "earlier result", "--watch-for", fix)
    try:
        if document["command"] != "prove":
            raise KeyError("command")
        return {(each["name"], each["table"]): _checked(each) for each in document["queries"]}
    except (ValueError, KeyError, TypeError, AttributeError):
        raise UsageError(f"{path} is not a result of `slabrow prove`", fix=fix) from None


def _checked(entry: Mapping[str, Any]) -> Mapping[str, Any]:
    """An entry with what is looked at later. Raises one of the errors of a wrong type where something lacks."""
    if entry["pruned_at"] not in _LATER or not isinstance(entry["total"], int):
        raise ValueError("pruned_at")
    for key in ("executed", "planned", "predicted"):
        if not isinstance(entry.get(key), (list, type(None))):
            raise TypeError(key)
    return entry


def worsened(result: ProveResult, earlier: Mapping[tuple[str, str], Mapping[str, Any]]) -> Iterator[str]:
    """A sentence for each query that touches more, is decided later, or breaks a limit that it held."""
    for proof in result.proofs:
        before = earlier.get((proof.query.name, proof.table))
        if before is None:
            if proof.is_ok is False:
                yield f"{proof.query.name} is new, and breaks its limit: {proof.touched} of {proof.total} partitions"
            continue
        sources = (before.get(key) for key in ("executed", "planned", "predicted"))
        known: list[str] = next((each for each in sources if each is not None), [])
        share, earlier_share = proof.touched / max(1, proof.total), len(known) / max(1, before["total"])
        if proof.touched > len(known) and share > earlier_share:
            yield (
                f"{proof.query.name} touches {proof.touched} of {proof.total} partitions, "
                f"{len(known)} of {before['total']} before"
            )
        elif _LATER.index(proof.pruned_at) > _LATER.index(before["pruned_at"]):
            yield f"{proof.query.name} is decided at {proof.pruned_at}, at {before['pruned_at']} before"
        elif proof.is_ok is False and before.get("ok") is not False:
            yield f"{proof.query.name} breaks its limit {proof.limit}, which it held before"
    for each in result.unproven:
        if each.is_error and any(name == each.query.name for name, _ in earlier):
            yield f"{each.query.name} is refused now: {each.reason}"
