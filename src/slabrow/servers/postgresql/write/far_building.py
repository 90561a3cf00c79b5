"""Builds a table whose hash parts lie on several servers: the parts there first, then the tables that stand for them.

In this order a run that is stopped leaves a table there that nobody asks yet; the other order would leave a partition
that every query without a key fails on.
"""

from collections.abc import Iterator

from slabrow.core.table.bounds import Hashed
from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Index, Shape
from slabrow.core.upkeep.elsewhere import Elsewhere, FarTable
from slabrow.core.upkeep.planned_partitions import Planned
from slabrow.core.upkeep.statements import Part, Statement, Transaction
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.far_partition import foreign_table, furnishing_there, making_there
from slabrow.servers.postgresql.quoting import identifier
from slabrow.servers.postgresql.write import ddl


def parts_on_servers(
    shape: Shape,
    layout: Layout,
    planned: tuple[Planned, ...],
    entries: dict[str, Elsewhere],
    keys: tuple[Index, ...],
    role: str,
    lock_wait_ms: int,
) -> Iterator[Transaction]:
    """One transaction for each part on another server, and the last one for everything here.

    shape   of the table, without keys
    keys    the unique indexes of each part
    """
    here: list[Part] = [ddl.lock_timeout(lock_wait_ms)]
    for each in planned:
        assert isinstance(each.bounds, Hashed)
        name, server = layout.table.sibling(each.name), layout.server_of(each.bounds.remainder)
        part = f"PARTITION OF {quoting.table(layout.table)} {quoting.bounds(each.bounds, len(layout.key))}"
        kind = "TABLE"
        if server is None:
            here.append(Statement(f"CREATE TABLE {quoting.table(name)} {part}"))
            here += [Statement(f"CREATE UNIQUE INDEX ON {quoting.table(name)} {key.definition}") for key in keys]
        else:
            kind = "FOREIGN TABLE"
            far = FarTable(server, Name(entries[server].schema or name.schema, name.table), comes=True)
            furnished = Shape(name, shape.owner, shape.columns, shape.constraints, (*shape.indexes, *keys))
            divided = ddl.partition_by(layout).removeprefix("PARTITION BY ")
            made = (*making_there(shape, far), furnishing_there(furnished, far, each, layout.key, divided, ""))
            yield Transaction(f"create {far.table} on {server}", made)
            here.append(Statement(foreign_table(shape, name, far, part)))
        if shape.owner != role:
            here.append(Statement(f"ALTER {kind} {quoting.table(name)} OWNER TO {identifier(shape.owner)}"))
    yield Transaction(f"create the parts of {layout.table}", tuple(here))
