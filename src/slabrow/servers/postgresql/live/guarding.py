"""A guard against old snapshots: who began before two tables changed places would miss the last rows that were copied.

A transaction at REPEATABLE READ or SERIALIZABLE takes its snapshot with its first statement, even when that statement
then waits for the lock behind which names are swapped. Afterwards it finds the other table under the name, without the
rows that were brought over since: its UPDATE would change nothing, and nobody would hear of it. The guard lets such a
statement fail as the server lets two changes of one row fail, with SQLSTATE 40001: the application tries again. The
mark of the swap is not visible in an old snapshot, and that is the whole test. READ COMMITTED never meets it.
"""

from collections.abc import Iterator
from dataclasses import dataclass

from slabrow.core.upkeep.statements import Statement
from slabrow.core.upkeep.steps import Step
from slabrow.core.values.names import Name
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.following import dollar_tag
from slabrow.servers.postgresql.live.locking import ALL_OUT, lock_alone
from slabrow.servers.postgresql.live.records import Record
from slabrow.servers.postgresql.quoting import identifier, literal


@dataclass(frozen=True, slots=True)
class Guard:
    """Of the table that has the name `table` after the swap. mark: what says that it was swapped."""

    schema: str
    job: int
    table: Name
    mark: str

    @property
    def _trigger(self) -> str:
        """Several partitions of one table may have been divided anew, each with a guard."""
        return f"slabrow_guard_{self.job}"

    @property
    def _function(self) -> str:
        return f"{identifier(self.schema)}.{identifier(f'guard_{self.job}')}()"

    def putting_up(self) -> Iterator[Statement]:
        """Within the swap, after the last rows were brought over. ALWAYS: in sessions of a replica's role, too."""
        place, trigger = quoting.table(self.table), identifier(self._trigger)
        marks = f"{identifier(self.schema)}.reshaping_mark"
        body = f"""
BEGIN
  IF NOT EXISTS (SELECT FROM {marks} WHERE job = {self.job:d} AND what = TG_ARGV[0]) THEN
    RAISE EXCEPTION 'could not serialize access: % was replaced after this transaction had begun', TG_RELID::regclass
      USING ERRCODE = 'serialization_failure', HINT = 'Try the transaction again.';
  END IF;
  RETURN NULL;
END
"""
        tag = dollar_tag(body)
        # SECURITY DEFINER: who writes to the table needs no right on the records.
        yield Statement(
            f"CREATE OR REPLACE FUNCTION {self._function} RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER "
            f"SET search_path = pg_catalog, pg_temp AS {tag}{body}{tag}"
        )
        yield Statement(
            f"CREATE TRIGGER {trigger} BEFORE INSERT OR UPDATE OR DELETE ON {place} FOR EACH STATEMENT "
            f"EXECUTE FUNCTION {self._function.removesuffix('()')}({literal(self.mark)})"
        )
        yield Statement(f"ALTER TABLE ONLY {place} ENABLE ALWAYS TRIGGER {trigger}")

    def taking_down(self) -> Iterator[Statement]:
        """Within a lock that keeps everybody out."""
        yield Statement(f"DROP TRIGGER IF EXISTS {identifier(self._trigger)} ON {quoting.table(self.table)}")

    def step(self) -> Step:
        """The step that takes it down. An earlier one may have done so already."""
        return Record(self.schema, self.job).step(
            "take the guard away",
            self.taking_down(),
            "guard taken away",
            f"take the guard of {self.table} away",
            lock_alone((self.table,), ALL_OUT),
        )

    def dropping(self) -> Iterator[Statement]:
        """When no table has the trigger any more."""
        yield Statement(f"DROP FUNCTION IF EXISTS {self._function}")
