"""Writes what an archive needs as SQL: the text of rows, their fingerprint, and the table that a partition becomes."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

from slabrow.core.sql.backquoted_types import BYTES, bare_type
from slabrow.core.table.export_column import ExportColumn
from slabrow.core.values.errors import Refusal
from slabrow.core.values.names import Name
from slabrow.servers.mariadb import quoting
from slabrow.servers.mariadb.quoting import identifier

_MOST_CHARACTERS = 64


def quoted_field(name: str, type_name: str) -> str:
    """A column as a text in double quotes, NULL as nothing. FLOAT as the number that it stands for: its own text has
    six digits only.
    """
    column, bare = identifier(name), bare_type(type_name)
    if bare in BYTES:
        text = f"hex({column})"
    elif bare == "bit":
        text = f"convert(CAST({column} AS UNSIGNED) USING utf8mb4)"
    elif bare == "float":
        text = f"convert(CAST({column} AS DOUBLE) USING utf8mb4)"
    else:
        text = f"convert({column} USING utf8mb4)"
    return f"ifnull(concat('\"', replace({text}, '\"', '\"\"'), '\"'), '')"


def fingerprint_sql(source: str, columns: Sequence[tuple[str, str]]) -> str:
    """A query for (rows, fingerprint): the sum of 60 bits of the MD5 of each row's text, whatever their order.

    source   as FROM names it; columns: name and type of each
    """
    text = ", ".join(quoted_field(name, type_name) for name, type_name in columns)
    digest = f"CAST(conv(left(md5(concat_ws(',', {text})), 15), 16, 10) AS DECIMAL(20,0))"
    return f"SELECT count(*) AS held, CAST(ifnull(sum({digest}), 0) AS CHAR) AS fingerprint FROM {source}"


def creation_of(table: Name, columns: Sequence[ExportColumn]) -> str:
    """CREATE TABLE for the stored columns of a table, for readers of the manifest."""
    listed = ", ".join(f"{identifier(each.name)} {each.type_name}" for each in columns)
    return f"CREATE TABLE {quoting.table(table)} ({listed})"


def leaving_name(table: Name, partition: str) -> Name:
    """The table that a partition becomes for as long as it is compared with its archive: it says which one it was, so
    that a run that was stopped can be gone on with. Raises Refusal where no such name fits.
    """
    digest = hashlib.sha256(f"{table.schema}.{table.table}".encode()).hexdigest()[:8]
    name = f"slabrow_leaving_{digest}_{partition}"
    if len(name) > _MOST_CHARACTERS:
        raise Refusal(
            f"the name {partition} is too long for a partition that is to be archived",
            found=f"while it leaves it is called {name}, and this server's names have {_MOST_CHARACTERS} characters",
            fix='give partitions shorter names with `names`, or write past_keep = "detach"',
        )
    return Name(table.schema, name)
