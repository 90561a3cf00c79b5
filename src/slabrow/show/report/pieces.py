"""What the sections of the page have in common."""

from collections.abc import Mapping
from typing import Any

Document = Mapping[str, Any]
MOST_ROWS = 40


def saved_at(document: Document) -> str:
    """When a result was saved, as people read it; empty where it does not say."""
    return str(document.get("at", "")).replace("T", " ").replace("+00:00", " UTC")


def sentence(text: str) -> str:
    """With a full stop, and a capital letter where it does not begin with a name."""
    text = text.strip()
    if not text:
        return text
    begins = text[0].upper() if text.split(" ", 1)[0].isalpha() else text[0]
    return begins + text[1:] + ("" if text[-1] in ".!?:" else ".")


def first_and_last(found: list[Any]) -> list[Any]:
    """All of them, or the first and the last where there are many."""
    return found if len(found) <= MOST_ROWS else [*found[: MOST_ROWS // 2], *found[-MOST_ROWS // 2 :]]


def caption(text: str, found: list[Any]) -> str:
    """What the table says, and whether some are left out."""
    return text if len(found) <= MOST_ROWS else f"{text}; the first and the last of {len(found):,}"


def bounds(each: Document) -> str:
    """What a partition holds."""
    if each["catch_all"]:
        return "all that no other holds"
    if each["modulus"] is not None:
        return f"remainder {each['remainder']} of {each['modulus']}"
    if each["values"]:
        return ", ".join(map(value_text, each["values"]))
    return f"from {value_text(each['from'])} up to {value_text(each['to'])}"


def value_text(value: Any) -> str:
    """A key as people read it."""
    if value is None:
        return "…"
    text = ", ".join(map(value_text, value)) if isinstance(value, list) else str(value)
    for ending in ("+00:00", "T00:00:00", " 00:00:00"):
        text = text.removesuffix(ending)
    return text
