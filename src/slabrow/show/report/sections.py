"""Which section of the page each command's result becomes, in the order of the page."""

from collections.abc import Callable

from slabrow.show.report import afterwards, beforehand
from slabrow.show.report.parts import Section
from slabrow.show.report.pieces import Document

_SECTIONS: dict[str, Callable[[Document, str], Section | None]] = {
    "survey": beforehand.survey,
    "weigh": beforehand.weigh,
    "forecast": beforehand.forecast,
    "rehearse": beforehand.rehearse,
    "convert": afterwards.convert,
    "census": afterwards.census,
    "prove": afterwards.prove,
    "compare": afterwards.compare,
    "tend": afterwards.tend,
    "history": afterwards.history,
}
ORDER = tuple(_SECTIONS)


def section_of(document: Document, anchor: str) -> Section | None:
    """The section of one result; None for a command that has none. Raises KeyError for a result without its parts."""
    made = _SECTIONS.get(str(document["command"]))
    return None if made is None else made(document, anchor)
