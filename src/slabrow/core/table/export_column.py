"""A column of an archive: how a file holds it."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ExportColumn:
    """A column of an archive.

    type_name   as the server spells it
    form        how the file holds it: `integer`, `real`, `boolean`, `timestamp`, `timestamptz`, `date`, or `text`,
                as the server writes it
    """

    name: str
    type_name: str
    form: str
