"""Optional parts of Slabrow: the libraries that each needs, and the error where they are missing.

A host that only runs `tend` from cron needs neither Matplotlib nor pyarrow, which take most of the disk space of an
installation.
"""

from importlib.util import find_spec

from slabrow.core.values.errors import MissingExtra

_EXTRAS = {
    "pictures": ("matplotlib", "drawing a picture"),
    "completion": ("argcomplete", "completing in a shell"),
    "report": ("jinja2", "writing the page"),
    "parquet": ("pyarrow", "reading and writing Parquet"),
}


def require(extra: str) -> None:
    """Raises MissingExtra when what the extra brings is not installed."""
    module, doing = _EXTRAS[extra]
    if find_spec(module) is None:
        raise MissingExtra(f"{doing} needs {module}, which is not installed", fix=f"pip install 'slabrow[{extra}]'")
