"""MariaDB's `protocols.Writer`: one door to the modules that write statements. Pure."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from slabrow.core.table.bounds import Bounds
from slabrow.core.upkeep.statements import Part, Remote, Statement, Transaction
from slabrow.core.values.errors import Refusal, UsageError
from slabrow.servers.mariadb import quoting

if TYPE_CHECKING:
    from slabrow.core.sql.index_statement import IndexAsked
    from slabrow.core.table.export_column import ExportColumn
    from slabrow.core.table.index_matrix import IndexFound, IndexMatrix
    from slabrow.core.table.layout import Layout
    from slabrow.core.table.shape import Index, Shape
    from slabrow.core.table.tree import Tree
    from slabrow.core.upkeep.actions import Adopt
    from slabrow.core.upkeep.conversion_plan import ConversionPlan
    from slabrow.core.upkeep.elsewhere import Elsewhere, FarFacts, FarLook, FarTable
    from slabrow.core.upkeep.live_plan import LivePlan
    from slabrow.core.upkeep.membership import JoiningPlan, LeavingPlan
    from slabrow.core.upkeep.planned_partitions import Planned
    from slabrow.core.upkeep.redivision import RedivisionPlan
    from slabrow.core.upkeep.relocation import RelocationPlan
    from slabrow.core.upkeep.steps import Step
    from slabrow.core.upkeep.upkeep_facts import Copying, UpkeepFacts
    from slabrow.core.values.key_values import Kind
    from slabrow.core.values.names import Name
    from slabrow.servers.mariadb.write.upkeep import MariaUpkeep
    from slabrow.servers.step_protocols import AsIsSteps, LiveSteps

NO_SCRIPT = (
    "do it with --go: names are exchanged by two connections at once, one of which waits behind the locks of the "
    "other, and a script has one"
)


class MariaWriter:
    """See the protocol for what each answers."""

    def identifier(self, name: str) -> str:
        """As `Writer.identifier`."""
        return quoting.identifier(name)

    def table(self, name: Name) -> str:
        """As `Writer.table`."""
        return quoting.table(name)

    def bounds(self, held: Bounds, width: int = 1) -> str:
        """As `Writer.bounds`."""
        return quoting.spelled_bounds(held)

    def parse_bounds(self, text: str, kinds: tuple[Kind, ...]) -> Bounds:
        """As `Writer.parse_bounds`: no archive of this family has its bounds as SQL alone."""
        raise UsageError("the archive was written on a server of another family", fix="bring it back there")

    def build(
        self, shape: Shape, layout: Layout, planned: tuple[Planned, ...], role: str, lock_wait_ms: int
    ) -> list[Transaction]:
        """As `Writer.build`: one statement, with all partitions."""
        from slabrow.servers.mariadb.write.definitions import create_table

        sql = create_table(shape, layout, planned, layout.table)
        return [Transaction(f"create {layout.table} and its partitions", (Statement(sql, 1.0),), is_atomic=False)]

    def upkeep(
        self, tree: Tree, layout: Layout, facts: UpkeepFacts, lock_wait_ms: int, copying: Copying | None = None
    ) -> MariaUpkeep:
        """As `Writer.upkeep`."""
        from slabrow.servers.mariadb.write.upkeep import MariaUpkeep

        return MariaUpkeep(tree, layout)

    def adoption(
        self, action: Adopt, parent: tuple[Tree, UpkeepFacts] | None, lock_wait_ms: int
    ) -> tuple[Transaction, ...]:
        """As `Writer.adoption`."""
        from slabrow.servers.mariadb.write.adopting import adoption

        return adoption(action, None if parent is None else parent[0])

    def conversion(self, plan: ConversionPlan) -> tuple[Step, ...]:
        """As `Writer.conversion`."""
        from slabrow.servers.mariadb.write.definitions import alteration

        raise Refusal(
            "there is no --way locked on this server: its own statement does the same, and keeps no old table",
            found="writers wait for the whole copy",
            fix="leave --way out; or, where nobody writes, run: " + alteration(plan.shape, plan.layout, plan.planned),
        )

    def live(self, plan: LivePlan, jobs: int) -> LiveSteps:
        """As `Writer.live`."""
        from slabrow.servers.mariadb.live.work import MariaLive

        return MariaLive(plan)

    def redivision(self, plan: RedivisionPlan, jobs: int) -> LiveSteps:
        """As `Writer.redivision`."""
        from slabrow.servers.mariadb.live.dividing import MariaDividing

        return MariaDividing(plan)

    def joining(self, plan: JoiningPlan) -> tuple[Step, ...]:
        """As `Writer.joining`."""
        from slabrow.servers.mariadb.live.joining import joining

        return joining(plan)

    def relocating(self, plan: RelocationPlan) -> tuple[Step, ...]:
        """As `Writer.relocating`: nothing can be moved."""
        return ()

    def giving_up_keys(self, root: Name, facts: FarFacts) -> tuple[Step, ...]:
        """As `Writer.giving_up_keys`: nothing asks for it."""
        return ()

    def parts_on_servers(
        self, shape: Shape, layout: Layout, planned: tuple[Planned, ...], entries: dict[str, Elsewhere],
        keys: tuple[Index, ...], role: str, lock_wait_ms: int,
    ) -> list[Transaction]:  # fmt: skip
        """As `Writer.parts_on_servers`: there are none."""
        raise NotImplementedError("no partition of this family lies on another server")

    def mending_there(
        self, shape: Shape, look: FarLook, planned: Planned, key: tuple[str, ...], divided_by: str, condition: str
    ) -> Step:
        """As `Writer.mending_there`: there is nothing to mend."""
        raise NotImplementedError("no partition of this family lies on another server")

    def dropping_there(self, far: FarTable) -> Remote:
        """As `Writer.dropping_there`: there is none."""
        raise NotImplementedError("no partition of this family lies on another server")

    def index_mending(self, matrix: IndexMatrix, taken: frozenset[str], only: Name | None = None) -> tuple[Step, ...]:
        """As `Writer.index_mending`: there is none that only some partitions have."""
        return ()

    def index_creating(
        self, matrix: IndexMatrix, asked: IndexAsked, taken: frozenset[str]
    ) -> tuple[Name, tuple[Step, ...]]:
        """As `Writer.index_creating`."""
        from slabrow.servers.mariadb.write import indexes

        return indexes.creating(matrix, asked)

    def analysis(self, table: Name, columns: Sequence[str], version: int) -> Transaction:
        """As `Writer.analysis`: the engine's statistics of all leaves."""
        sql = f"ANALYZE TABLE {quoting.table(table)}"
        return Transaction(f"analyse {table}", (Statement(sql),), is_atomic=False)

    def index_dropping(self, matrix: IndexMatrix, index: IndexFound) -> tuple[Step, ...]:
        """As `Writer.index_dropping`."""
        from slabrow.servers.mariadb.write import indexes

        return indexes.dropping(matrix, index)

    def leaving(self, plan: LeavingPlan) -> tuple[Step, ...]:
        """As `Writer.leaving`."""
        from slabrow.servers.mariadb.live.leaving import leaving

        return leaving(plan)

    def phase_script(
        self, title: str, steps: Sequence[Step], lock_wait_ms: int, now: datetime, is_over: str | None = None
    ) -> str:
        """As `Writer.phase_script`."""
        raise Refusal("long work on this server is not written as a script", fix=NO_SCRIPT)

    def as_is(self, plan: LivePlan) -> AsIsSteps:
        """As `Writer.as_is`."""
        raise Refusal(
            "there is no --way as-is on this server",
            found="a primary key that takes in the partition key is made by copying the whole table",
            fix="leave --way out: it copies while the table is in use",
        )

    def dropping(self, old: Name, lock_wait_ms: int) -> Transaction:
        """As `Writer.dropping`."""
        sql = f"DROP TABLE {quoting.table(old)}"
        return Transaction(f"drop {old}", (Statement(sql, 1.0),), is_atomic=False)

    def old_table(self, comment: str | None) -> tuple[Name, str | None] | None:
        """As `Writer.old_table`: no conversion has left any."""
        return None

    def creation_of(self, table: Name, columns: Sequence[ExportColumn]) -> str:
        """As `Writer.creation_of`."""
        from slabrow.servers.mariadb.write import archiving

        return archiving.creation_of(table, columns)

    def unchanged_since(
        self, table: Name, columns: Sequence[str], rows: int, fingerprint: str, *, is_far: bool
    ) -> tuple[Part, ...]:
        """As `Writer.unchanged_since`: it is compared again when nobody can reach it any more."""
        return ()

    def script(self, transactions: Sequence[Transaction], title: str, now: datetime) -> str:
        """As `Writer.script`."""
        from slabrow.servers.mariadb.write.script import script

        return script(transactions, title, now)
