"""What an archive is made of: where its rows are, and how a file holds each column."""

from dataclasses import dataclass

from slabrow.core.values.names import Name


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


@dataclass(frozen=True, slots=True)
class RowSource:
    """Where rows are: in a partition, or in the table of its own that the partition has become.

    parent      the partitioned table
    apart       that table of its own; None while the rows are in the partition
    """

    parent: Name
    partition: Name
    apart: Name | None = None
