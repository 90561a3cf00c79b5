"""Following changes where the source or the target lies on another server (postgres_fdw).

Joined with the log, a table elsewhere would be read whole and sent over, or asked for row by row. So the keys of a
batch become constants of one statement each, which is done there as a whole (PostgreSQL manual, F.36.5: conditions with
constants are sent). The other server commits just before this one does: a batch whose end is lost is done again.
"""

from collections.abc import Iterator
from dataclasses import dataclass

from slabrow.core.upkeep.statements import Statement
from slabrow.servers.postgresql import quoting
from slabrow.servers.postgresql.live.following import UPTO, Following, dollar_tag
from slabrow.servers.postgresql.quoting import identifier, literal

BATCH = 500  # entries: the keys of a batch stand in the text of its statements
_DIFFERING = "slabrow.differing"
_TRUNCATE_TRIGGERS_FROM = 16  # on foreign tables (release notes of PostgreSQL 16)


@dataclass(frozen=True, slots=True, kw_only=True)
class FarFollowing(Following):
    """The log of a move between servers.

    source_is_far   whether the source lies elsewhere; else the target does
    version         of the server here
    """

    source_is_far: bool
    version: int

    def _recording_truncate(self) -> Iterator[Statement]:
        """Before PostgreSQL 16 a foreign table has no trigger for TRUNCATE."""
        if not self.source_is_far or self.version >= _TRUNCATE_TRIGGERS_FROM:
            yield from Following._recording_truncate(self)

    def batch(self, most: int | None = BATCH) -> list[Statement]:
        """As of a table here, in smaller batches."""
        return Following.batch(self, most)

    def bringing_over(self, most: int | None) -> list[Statement]:
        """A batch without the removal of its entries. How many rows differ afterwards is kept for `same_rows`."""
        some = "" if most is None else f" ORDER BY seq LIMIT {most:d}"
        columns, target = quoting.columns(self.columns), quoting.table(self.target)
        overriding = " OVERRIDING SYSTEM VALUE" if self.overrides else ""
        source = f"{self.from_source} s"
        parts = [
            f"DELETE FROM {target} s WHERE {self._key} IN (",
            f"INSERT INTO {target} ({columns}){overriding} SELECT {columns} FROM {source} WHERE {self._key} IN (",
        ]
        body = f"""
DECLARE
  keys text;
  differing bigint := 0;
BEGIN
  {self.collecting(self.named())}
  IF keys IS NOT NULL THEN
    {" ".join(f"EXECUTE {literal(part)} || keys || ')';" for part in parts)}
    {self._differing(source, target) if most is None else ""}
  END IF;
  PERFORM set_config('{_DIFFERING}', differing::text, true);
END
"""
        tag = dollar_tag(body)
        return [
            Statement(
                f"SELECT set_config('{UPTO}', coalesce(max(seq), 0)::text, true) "
                f"FROM (SELECT seq FROM {self.log} WHERE seq > {self._floor}{some}) b"
            ),
            *self._emptied(),
            Statement(f"DO {tag}{body}{tag}"),
        ]

    def collecting(self, named: str) -> str:
        """PL/pgSQL that puts the keys of a query into `keys`, as the list behind IN."""
        found = self.logged[: self.followed]
        spelled = ", ".join(f"%L::{column.type_name.replace('%', '%%')}" for column in found)
        values = ", ".join(f"k_{number}" for number in range(1, self.followed + 1))
        form = literal(f"({spelled})")
        distinct = f"SELECT DISTINCT {values} FROM ({named}) n"
        return f"SELECT string_agg(format({form}, {values}), ', ') INTO keys FROM ({distinct}) k;"

    @property
    def _key(self) -> str:
        return "(" + ", ".join(f"s.{identifier(column.name)}" for column in self.logged[: self.followed]) + ")"

    def _differing(self, source: str, target: str) -> str:
        # As text: not every type can be compared.
        row = "ROW(" + ", ".join(f"s.{identifier(column)}" for column in self.columns) + ")::text"
        one, other = (f"SELECT {row} FROM {place} WHERE {self._key} IN (" for place in (source, f"{target} s"))
        return f"""EXECUTE {literal("SELECT count(*) FROM ((" + one)} || keys || {literal(") EXCEPT ALL " + other)} ||
      keys || {literal(")) UNION ALL (" + other)} || keys || {literal(") EXCEPT ALL " + one)} || keys || '))) d'
      INTO differing;"""

    def same_rows(self, what: str) -> str:
        """A check of what `bringing_over` has found."""
        return (
            f"SELECT {literal(what)} AS what, 0 AS before, n AS after, n <> 0 AS differs "
            f"FROM (SELECT current_setting('{_DIFFERING}')::bigint AS n) c"
        )

    def whole_comparison(self, row_print: str, leaf: str) -> tuple[Statement, str]:
        """Of a source elsewhere that is written to meanwhile: a statement that compares, and a query of what it found.

        The other server shows one moment until the transaction ends (postgres_fdw reads there in REPEATABLE READ), and
        what has an entry in the log afterwards may be newer here or there: such rows are left out on both sides.
        row_print: a fingerprint of a row, as SQL; leaf: what the target is called
        """
        sums = f"SELECT count(*), coalesce(sum({row_print}), 0) FROM"
        source, target = f"{self.from_source} s", f"{quoting.table(self.target)} s"
        names = ", ".join(f"{{0}}_{number} AS k_{number}" for number in range(1, len(self.logged) + 1))
        one = f"SELECT {names} FROM {self.log} WHERE {{0}}_1 IS NOT NULL"
        every = f"{one.format('old')} UNION {one.format('new')}"
        body = f"""
DECLARE
  keys text;
  held bigint; came bigint; held_newer bigint := 0; came_newer bigint := 0;
  held_print numeric; came_print numeric; held_newer_print numeric := 0; came_newer_print numeric := 0;
BEGIN
  EXECUTE {literal(f"{sums} {source}")} INTO held, held_print;
  {self.collecting(every)}
  EXECUTE {literal(f"{sums} {target}")} INTO came, came_print;
  IF keys IS NOT NULL THEN
    EXECUTE {literal(f"{sums} {source} WHERE {self._key} IN (")} || keys || ')' INTO held_newer, held_newer_print;
    EXECUTE {literal(f"{sums} {target} WHERE {self._key} IN (")} || keys || ')' INTO came_newer, came_newer_print;
  END IF;
  PERFORM set_config('slabrow.compared', jsonb_build_array(held - held_newer, came - came_newer,
    held_print - held_newer_print <> came_print - came_newer_print)::text, true);
END
"""
        tag = dollar_tag(body)
        found = "FROM (SELECT current_setting('slabrow.compared')::jsonb AS c) f"
        query = (
            "SELECT 'all rows' AS leaf, (c->>0)::bigint AS old_rows, (c->>1)::bigint AS new_rows, "
            f"(c->>0) <> (c->>1) OR (c->>2)::boolean AS differs {found} "
            f"UNION ALL SELECT {literal(leaf)}, (c->>1)::bigint, (c->>1)::bigint, false {found}"
        )
        return Statement(f"DO {tag}{body}{tag}"), query
