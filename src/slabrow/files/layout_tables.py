"""Which tables a layout file is about, read before the modules that check the file are loaded."""

from pathlib import Path

from slabrow.core.values.errors import UsageError
from slabrow.core.values.names import Name, parse_name
from slabrow.files.reading import toml_document


def tables_named(path: Path) -> tuple[Name, ...]:
    """The tables of its layouts; none where the file has a fault, which the proper reading of the file reports."""
    try:
        entries = toml_document(path.read_text(encoding="utf-8")).get("layout", [])
        return tuple(dict.fromkeys(parse_name(entry["table"]) for entry in entries))
    except (OSError, ValueError, TypeError, KeyError, AttributeError, UsageError):
        return ()
