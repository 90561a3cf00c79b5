"""The steps that move a partition to another server while the table is in use, or bring it home, and of the way back.

They are those of a partition that is divided into one (redividing.py), with one of the two lying elsewhere. The rows go
there from connection to connection; changes are brought over, compared and swapped through the foreign table, so that
each commit here depends on the one there. Nothing can lock a foreign table but a change of it.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, fields, replace

from slabrow.core.upkeep.elsewhere import FarTable
from slabrow.core.upkeep.statements import Check, Part, Pipe, Statement, StrongLock, Transaction
from slabrow.core.upkeep.steps import NOT_YET, RepeatedStep, Step
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.copying import PieceCopy
from slabrow.servers.postgresql.live.far_following import FarFollowing
from slabrow.servers.postgresql.live.far_partition import FarPartition, arrivals_of, dropping_there
from slabrow.servers.postgresql.live.following import Following
from slabrow.servers.postgresql.live.locking import ALL_OUT, lock_alone, look_only
from slabrow.servers.postgresql.live.new_partitions import NewPartitions
from slabrow.servers.postgresql.live.redividing import DIFFER, Redividing
from slabrow.servers.postgresql.live.swap_checks import same_files
from slabrow.servers.postgresql.quoting import identifier, literal
from slabrow.servers.postgresql.write.comparison import row_print

_PIECE_BLOCKS = 8_192
# Behind a lock nobody waits for long for a server that does not answer.
_ANSWERS_WITHIN = "SET LOCAL statement_timeout = '1s'"


@dataclass(frozen=True)
class FarRedividing(Redividing):
    """`RedivisionSteps` for a plan with a partition elsewhere."""

    @property
    def _far(self) -> FarTable:
        assert self.plan.far is not None
        return self.plan.far

    def _following(self, name: str, parts: tuple[Name, ...]) -> Following:
        near = super()._following(name, parts)
        is_forward = name == "log"
        given = {each.name: getattr(near, each.name) for each in fields(near)}
        return FarFollowing(**given, source_is_far=is_forward != self._far.comes, version=self.plan.version)

    @property
    def _new_partitions(self) -> NewPartitions | FarPartition:
        return self._far_partition if self._far.comes else NewPartitions(self.plan, self.stage)

    @property
    def _far_partition(self) -> FarPartition:
        return FarPartition(self.plan, self._far, self.stage)

    def _is_far(self, tables: Sequence[Name], *, once_swapped: bool) -> bool:
        """Whether partitions in their place lie elsewhere, before the swap or after it."""
        return self._far.comes is once_swapped and bool(tables)

    def _keeping_out(self, tables: Sequence[Name], mode: str) -> StrongLock:
        """A foreign table is locked by the statement that changes it."""
        return look_only(tables, mode)

    def _exchange_lock(self, leaving: Sequence[Name]) -> StrongLock:
        usual = super()._exchange_lock(leaving)
        # What leaves lies elsewhere on the way home, and on the way back from there: its parents keep everybody off.
        parents = lock_alone(self._parents, ALL_OUT)
        return replace(usual, gentle=parents.gentle, strong=parents.strong)

    def _clean(self) -> tuple[Step, ...]:
        """A server cleans no foreign table."""
        return () if self._far.comes else Redividing._clean(self)

    def swap(self) -> tuple[Step, ...]:
        """As of a partition here, once the other server has answered."""
        return (self._answers("see that the other server answers", self._incoming, self._sources), *super().swap())

    def undo(self) -> tuple[Step, ...]:
        """As of a partition here, once the other server has answered."""
        return (self._answers("see that the other server answers", self._new, self._kept), *super().undo())

    def _answers(self, name: str, came: Sequence[Name], left: Sequence[Name]) -> Step:
        """Asked without a lock: when it is frozen, nobody has waited for it but this."""
        far = came if self._far.comes else left
        asked = (Statement(f"SELECT 1 FROM {quoting.table(each)} LIMIT 1") for each in far)
        transaction = Transaction("see that the other server answers", (Statement(_ANSWERS_WITHIN), *asked))
        return Step(name=name, transaction=transaction, is_done=NOT_YET)

    def _held_still(self, following: Following) -> Iterable[Part]:
        """Who writes to the partition by its own name waits too: a trigger is switched off behind its own lock."""
        yield Statement(_ANSWERS_WITHIN)
        yield from following.silencing()

    def _tied(self) -> tuple[Part, ...]:
        """A commit that depends on the other server: when that is gone the swap does not happen."""
        if not self._far.comes:
            return ()
        return tuple(Statement(f"SELECT 1 FROM {quoting.table(name)} LIMIT 1") for name in self._new)

    # The copy

    def _copy(self) -> tuple[Step, ...]:
        copying = replace(self._copying, piece_blocks=_PIECE_BLOCKS)
        return self._copy_out(copying) if self._far.comes else self._copy_home(copying)

    @property
    def _form(self) -> str:
        """In the binary form types are known by their numbers, which only the server's own have in common."""
        return "(FORMAT binary)" if self._far.is_plain else "(FORMAT text)"

    def _copy_out(self, copying: PieceCopy) -> tuple[Step, ...]:
        """Piece by piece, each a transaction there, which notes that it has come."""
        job, pieces = self.plan.job, f"{identifier(self.plan.schema)}.reshaping_piece"
        dividing = copying.dividing(self.jobs, emptied=self._far_partition.emptying())
        columns = quoting.columns(self.plan.copied)
        unknown = " AND ".join(
            f"l.new_{number} = s.{identifier(name)}" for number, name in enumerate(self.plan.followed, 1)
        )
        horizon = f"(SELECT horizon FROM {identifier(self.plan.schema)}.reshaping WHERE job = {job})"
        piece = (
            Statement(
                "SELECT set_config('slabrow.piece', piece::text, true), "
                "set_config('slabrow.low', format('(%s,0)', low), true), "
                "set_config('slabrow.high', format('(%s,0)', high), true) "
                f"FROM (SELECT * FROM {pieces} WHERE job = {job} AND NOT is_done ORDER BY piece LIMIT 1 "
                "FOR UPDATE SKIP LOCKED) p"
            ),
            # A row that was written since has its entry in the log, and comes with the changes.
            Pipe(
                f"COPY (SELECT {columns} FROM ONLY {quoting.table(self._sources[0])} s "
                "WHERE ctid >= current_setting('slabrow.low')::tid AND ctid < current_setting('slabrow.high')::tid "
                f"AND (age(s.xmin) > age({horizon}) OR NOT EXISTS (SELECT FROM {self._forward.log} l WHERE {unknown}))"
                f") TO STDOUT {self._form}",
                f"COPY {quoting.table(self._far.table)} ({columns}) FROM STDIN {self._form}",
                target=self._far.server,
                number="SELECT piece FROM (SELECT nullif(current_setting('slabrow.piece', true), '')::bigint AS piece) "
                "p WHERE piece IS NOT NULL",
                arrivals=arrivals_of(self._far),
            ),
            Statement(
                f"UPDATE {pieces} SET is_done = true, row_count = current_setting('slabrow.piped')::bigint WHERE "
                f"job = {job} AND piece = nullif(current_setting('slabrow.piece', true), '')::bigint"
            ),
        )
        return (
            Step(name="divide the copy", transaction=dividing, is_done=copying.is_divided),
            RepeatedStep(
                name="copy rows",
                transaction=Transaction("copy a piece of the rows", piece),
                is_done=copying.is_copied,
                is_wide=True,
                is_paced=True,
                backlog=self._pieces_left,
            ),
        )

    def _copy_home(self, copying: PieceCopy) -> tuple[Step, ...]:
        """All rows in one transaction here: the other server does not know which of them were written since."""
        job, schema = self.plan.job, identifier(self.plan.schema)
        source = f"{literal(str(self._sources[0]))}::regclass"
        listed = (
            Statement(f"INSERT INTO {schema}.reshaping_source (job, relation, blocks) VALUES ({job}, {source}, 0)"),
            Statement(
                f"INSERT INTO {schema}.reshaping_piece (job, piece, relation, low, high) "
                f"VALUES ({job}, 1, {source}, 0, 0)"
            ),
        )
        dividing = copying.dividing(1, listed=listed)
        columns = quoting.columns(self.plan.copied)
        incoming = quoting.table(self._incoming[0])
        rows = (
            Statement(f"TRUNCATE {incoming}"),
            Pipe(
                f"COPY (SELECT {columns} FROM {quoting.table(self._far.table)}) TO STDOUT {self._form}",
                f"COPY {incoming} ({columns}) FROM STDIN {self._form}",
                source=self._far.server,
            ),
            Statement(
                f"UPDATE {schema}.reshaping_piece SET is_done = true, "
                f"row_count = current_setting('slabrow.piped')::bigint WHERE job = {job}"
            ),
        )
        return (
            Step(name="divide the copy", transaction=dividing, is_done=copying.is_divided),
            Step(name="copy rows", transaction=Transaction("copy the rows", rows), is_done=copying.is_copied),
        )

    def _comparison(self) -> tuple[Part, ...]:
        if self._far.comes:
            # Pieces are places in a file: when that is another one by now, the copy begins again.
            *brought, compared = super()._comparison()
            return (*brought, same_files(self.plan.schema, self.plan.job), compared)
        columns = tuple(column.name for column in self.plan.shape.columns)
        following = self._forward
        assert isinstance(following, FarFollowing)
        compared, found = following.whole_comparison(row_print(columns, self.plan.record_hash), self._incoming[0].table)
        # A change whose end here had not yet come when its entry was looked for: compared again.
        return (compared, Check(found, DIFFER, doing="comparing", renews=True))

    # The end

    def _dropping(self, table: Name) -> Iterable[Part]:
        """The table there goes first. After a kill the foreign table is still here, and the drop is repeated; the other
        order would leave rows there that nothing names.
        """
        far_ones = self._incoming if self._far.comes else self._kept
        if table not in far_ones:
            return super()._dropping(table)
        name = quoting.table(table)
        return (dropping_there(self._far), Statement(f"DROP FOREIGN TABLE IF EXISTS {name}"))
