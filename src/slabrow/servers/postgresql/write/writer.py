"""PostgreSQL's `protocols.Writer`: one door to the modules that write statements. Pure."""

from collections.abc import Sequence
from datetime import datetime

from slabrow.core.sql.index_statement import IndexAsked
from slabrow.core.table.bounds import Bounds
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
from slabrow.core.upkeep.statements import Part, Remote, Statement, Transaction
from slabrow.core.upkeep.steps import Step
from slabrow.core.upkeep.upkeep_facts import Copying, UpkeepFacts
from slabrow.core.values.key_values import Kind
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.write import ddl
from slabrow.servers.step_protocols import AsIsSteps, LiveSteps

_ANALYSES_ALONE = 18


class PostgresWriter:
    """See the protocol for what each answers."""

    def identifier(self, name: str) -> str:
        """As `Writer.identifier`."""
        return quoting.identifier(name)

    def table(self, name: Name) -> str:
        """As `Writer.table`."""
        return quoting.table(name)

    def bounds(self, held: Bounds, width: int = 1) -> str:
        """As `Writer.bounds`."""
        return quoting.bounds(held, width)

    def parse_bounds(self, text: str, kinds: tuple[Kind, ...]) -> Bounds:
        """As `Writer.parse_bounds`."""
        from slabrow.servers.postgresql.read.bound_text import parse_bounds

        return parse_bounds(text.replace("MODULUS", "modulus").replace("REMAINDER", "remainder"), kinds)

    def build(
        self, shape: Shape, layout: Layout, planned: tuple[Planned, ...], role: str, lock_wait_ms: int
    ) -> list[Transaction]:
        """As `Writer.build`."""
        return ddl.build(shape, layout, planned, role, lock_wait_ms)

    def upkeep(
        self, tree: Tree, layout: Layout, facts: UpkeepFacts, lock_wait_ms: int, copying: Copying | None = None
    ) -> ddl.Upkeep:
        """As `Writer.upkeep`."""
        return ddl.upkeep_of(tree, layout, facts, lock_wait_ms, copying)

    def adoption(
        self, action: Adopt, parent: tuple[Tree, UpkeepFacts] | None, lock_wait_ms: int
    ) -> tuple[Transaction, ...]:
        """As `Writer.adoption`."""
        from slabrow.servers.postgresql.write.adopting import adoption

        upkeep = None
        if parent is not None:
            tree, facts = parent
            upkeep = ddl.upkeep_of(tree, Layout(tree.table, tree.by, ()), facts, lock_wait_ms)
        return (adoption(action, upkeep, lock_wait_ms),)

    def conversion(self, plan: ConversionPlan) -> tuple[Step, ...]:
        """As `Writer.conversion`."""
        from slabrow.servers.postgresql.write.conversion import Conversion

        return Conversion(plan).steps()

    def live(self, plan: LivePlan, jobs: int) -> LiveSteps:
        """As `Writer.live`."""
        from slabrow.servers.postgresql.live.work import LiveWork

        return LiveWork(plan, jobs)

    def redivision(self, plan: RedivisionPlan, jobs: int) -> LiveSteps:
        """As `Writer.redivision`."""
        from slabrow.servers.postgresql.live.far_redividing import FarRedividing
        from slabrow.servers.postgresql.live.redividing import Redividing

        return Redividing(plan, jobs) if plan.far is None else FarRedividing(plan, jobs)

    def joining(self, plan: JoiningPlan) -> tuple[Step, ...]:
        """As `Writer.joining`."""
        from slabrow.servers.postgresql.live.membership_steps import joining

        return joining(plan)

    def relocating(self, plan: RelocationPlan) -> tuple[Step, ...]:
        """As `Writer.relocating`."""
        from slabrow.servers.postgresql.live.relocating import relocating

        return relocating(plan)

    def giving_up_keys(self, root: Name, facts: FarFacts) -> tuple[Step, ...]:
        """As `Writer.giving_up_keys`."""
        from slabrow.servers.postgresql.live.giving_up_keys import giving_up_keys

        return giving_up_keys(root, facts)

    def parts_on_servers(
        self, shape: Shape, layout: Layout, planned: tuple[Planned, ...], entries: dict[str, Elsewhere],
        keys: tuple[Index, ...], role: str, lock_wait_ms: int,
    ) -> list[Transaction]:  # fmt: skip
        """As `Writer.parts_on_servers`."""
        from slabrow.servers.postgresql.write.far_building import parts_on_servers

        return list(parts_on_servers(shape, layout, planned, entries, keys, role, lock_wait_ms))

    def mending_there(
        self, shape: Shape, look: FarLook, planned: Planned, key: tuple[str, ...], divided_by: str, condition: str
    ) -> Step:
        """As `Writer.mending_there`."""
        from slabrow.servers.postgresql.live.far_partition import mending

        return mending(shape, look, planned, key, divided_by, condition)

    def dropping_there(self, far: FarTable) -> Remote:
        """As `Writer.dropping_there`."""
        from slabrow.servers.postgresql.live.far_partition import dropping_there

        return dropping_there(far)

    def index_mending(self, matrix: IndexMatrix, taken: frozenset[str], only: Name | None = None) -> tuple[Step, ...]:
        """As `Writer.index_mending`."""
        from slabrow.servers.postgresql.live.index_steps import mending

        return mending(matrix, taken, only)

    def index_creating(
        self, matrix: IndexMatrix, asked: IndexAsked, taken: frozenset[str]
    ) -> tuple[Name, tuple[Step, ...]]:
        """As `Writer.index_creating`."""
        from slabrow.servers.postgresql.live.index_steps import creating

        return creating(matrix, asked, taken)

    def analysis(self, table: Name, columns: Sequence[str], version: int) -> Transaction:
        """As `Writer.analysis`: before PostgreSQL 18 the leaves are always analysed with the table."""
        only = "ONLY " if version >= _ANALYSES_ALONE else ""
        named = f" ({quoting.columns(tuple(columns))})" if columns else ""
        return Transaction(f"analyse {table}", (Statement(f"ANALYZE {only}{quoting.table(table)}{named}"),))

    def index_dropping(self, matrix: IndexMatrix, index: IndexFound) -> tuple[Step, ...]:
        """As `Writer.index_dropping`."""
        from slabrow.servers.postgresql.live.index_steps import dropping

        return dropping(matrix, index)

    def leaving(self, plan: LeavingPlan) -> tuple[Step, ...]:
        """As `Writer.leaving`."""
        from slabrow.servers.postgresql.live.membership_steps import leaving

        return leaving(plan)

    def phase_script(
        self, title: str, steps: Sequence[Step], lock_wait_ms: int, now: datetime, is_over: str | None = None
    ) -> str:
        """As `Writer.phase_script`."""
        from slabrow.servers.postgresql.live.scripting import phase

        return phase(title, steps, lock_wait_ms, now, is_over)

    def as_is(self, plan: LivePlan) -> AsIsSteps:
        """As `Writer.as_is`."""
        from slabrow.servers.postgresql.live.as_is import AsIsWork

        return AsIsWork(plan)

    def dropping(self, old: Name, lock_wait_ms: int) -> Transaction:
        """As `Writer.dropping`."""
        dropped = Statement(f"DROP TABLE {quoting.table(old)}", 1.0)
        return Transaction(f"drop {old}", (ddl.lock_timeout(lock_wait_ms), dropped))

    def old_table(self, comment: str | None) -> tuple[Name, str | None] | None:
        """As `Writer.old_table`."""
        from slabrow.servers.postgresql.write.conversion import unmarked

        return unmarked(comment)

    def creation_of(self, table: Name, columns: Sequence[ExportColumn]) -> str:
        """As `Writer.creation_of`."""
        from slabrow.servers.postgresql.write.archiving import creation_of

        return creation_of(table, columns)

    def unchanged_since(
        self, table: Name, columns: Sequence[str], rows: int, fingerprint: str, *, is_far: bool
    ) -> tuple[Part, ...]:
        """As `Writer.unchanged_since`."""
        from slabrow.servers.postgresql.write.archiving import unchanged_since

        return unchanged_since(table, columns, rows, fingerprint, is_far=is_far)

    def script(self, transactions: Sequence[Transaction], title: str, now: datetime) -> str:
        """As `Writer.script`."""
        from slabrow.servers.postgresql.write.script import script

        return script(transactions, title, now)
