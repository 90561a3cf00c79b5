"""Parts of live conversion by themselves: what breaks, the pace, the comparison, and the SQL that follows changes."""

import unittest
from threading import Event

import psycopg

from slabrow.core.table.layout import Layout
from slabrow.core.table.shape import Column, Constraint, Index, KeyChange, Shape, key_changes
from slabrow.core.upkeep.breaks import Breaking
from slabrow.core.values.errors import Stopped, UsageError
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.servers.families import open_session
from slabrow.servers.postgresql.live.following import Following, dollar_tag
from slabrow.servers.postgresql.write.comparison import Comparison
from slabrow.work import pace as pace_module
from slabrow.work.pace import Pace, Speed, parse_speed
from slabrow.work.reshaping.plan import planned_of
from tests.support import DatabaseTest

READING = Name("apiary", "reading")
SHAPE = Shape(
    READING,
    "keeper",
    (Column("reading_id", "bigint", True), Column("taken_at", "timestamptz", True), Column("serial", "text")),
    (Constraint("reading_pkey", "p", "PRIMARY KEY (reading_id)", ("reading_id",)),),
    (Index("reading_serial_idx", "USING btree (serial)", True, ("serial",)),),
)


class BreakingTest(unittest.TestCase):
    def codes(self, sql, table=READING):
        shape = SHAPE if table == READING else Shape(table, "", SHAPE.columns, SHAPE.constraints)
        breaking = Breaking(shape, ("taken_at",), key_changes(shape, ("taken_at",)))
        return [(each.code, each.fails) for each in breaking.of_statement("q", sql)]

    def test_each_kind_of_statement(self):
        into = "INSERT INTO apiary.reading VALUES (1, now(), 'a')"
        for sql, expected in [
            (f"{into} ON CONFLICT (reading_id) DO NOTHING", [("on_conflict", True)]),
            (f"{into} ON CONFLICT (serial) DO UPDATE SET serial = 'b'", [("on_conflict", True)]),
            (f"{into} ON CONFLICT (reading_id, taken_at) DO NOTHING", []),
            (f"{into} ON CONFLICT (taken_at, reading_id) DO NOTHING", []),
            (f"{into} ON CONFLICT ON CONSTRAINT reading_pkey DO NOTHING", [("on_conflict", False)]),
            (f"{into} ON CONFLICT ON CONSTRAINT another DO NOTHING", []),
            (
                f"WITH a AS ({into} ON CONFLICT (reading_id) DO NOTHING RETURNING 1) SELECT * FROM a",
                [("on_conflict", True)],
            ),
            (into, []),
            ("INSERT INTO other.reading VALUES (1) ON CONFLICT (reading_id) DO NOTHING", []),
            ("INSERT INTO reading VALUES (1) ON CONFLICT (reading_id) DO NOTHING", [("on_conflict", True)]),
            ("ALTER TABLE alarm ADD FOREIGN KEY (r) REFERENCES apiary.reading (reading_id)", [("reference", True)]),
            ("CREATE TABLE alarm (r bigint REFERENCES apiary.reading)", [("reference", True)]),
            ("CREATE TABLE alarm (r bigint REFERENCES apiary.hive)", []),
            ("SELECT * FROM apiary.reading WHERE reading_id = $1", [("every_partition", False)]),
            ("SELECT * FROM apiary.reading WHERE 7 = reading_id AND serial = 'x'", [("every_partition", False)] * 2),
            ("SELECT * FROM apiary.reading WHERE reading_id = 7 AND taken_at > now()", []),
            ("SELECT * FROM apiary.reading WHERE reading_id > 7", []),
            ("DELETE FROM apiary.reading WHERE reading_id = 7", [("every_partition", False)]),
            ("UPDATE apiary.reading SET taken_at = now() WHERE taken_at = '2026-01-01'", [("row_moves", False)]),
            ("UPDATE apiary.reading SET serial = 'x' WHERE taken_at = '2026-01-01'", []),
            ("not a statement at all", []),
        ]:
            with self.subTest(sql):
                found = self.codes(sql)
                self.assertEqual(expected, found if len(expected) != 2 else found[:2])

    def test_bodies_of_functions_are_read_statement_by_statement(self):
        breaking = Breaking(SHAPE, ("taken_at",), key_changes(SHAPE, ("taken_at",)))
        body = """DECLARE n int; BEGIN
            PERFORM 1 FROM apiary.reading WHERE reading_id = 5;
            IF n > 1 THEN INSERT INTO apiary.reading (reading_id) VALUES (n) ON CONFLICT (reading_id) DO NOTHING; END IF;
            EXCEPTION WHEN unique_violation THEN RAISE NOTICE 'reading_pkey'; END"""
        self.assertEqual(
            [("every_partition", "f()"), ("on_conflict", "f()"), ("constraint_name", "f()")],
            [(each.code, each.name) for each in breaking.of_body("f()", body)],
        )
        self.assertEqual(["uniqueness", "uniqueness"], [each.code for each in breaking.of_table()])
        self.assertEqual([], list(Breaking(SHAPE, ("reading_id",), ()).of_table()))

    def test_the_table_that_a_foreign_key_refers_to(self):
        for definition, expected in [
            ("FOREIGN KEY (a) REFERENCES hive(hive_id)", Name(None, "hive")),
            ("FOREIGN KEY (a) REFERENCES apiary.hive(hive_id) ON DELETE CASCADE", Name("apiary", "hive")),
            ('FOREIGN KEY (a) REFERENCES "Öl"."the (hive)"("Id") NOT VALID', Name("Öl", "the (hive)")),
        ]:
            self.assertEqual(expected, Constraint("c", "f", definition).referenced)


class PaceTest(unittest.TestCase):
    class Waits(Event):
        """Keeps how long it was waited for, and waits not at all."""

        def __init__(self):
            super().__init__()
            self.waited = []

        def wait(self, timeout=None):
            self.waited.append(timeout)
            return False

    def paced(self, speed, pressure=(0, 0)):
        self.said = []
        return Pace(speed, lambda: pressure, self.said.append)

    def test_speeds_are_words_or_rows_a_second(self):
        self.assertEqual([1, 2, 4], [parse_speed(word).jobs for word in ("gentle", "normal", "full")])
        self.assertEqual(5_000, parse_speed("5000").rows_a_second)
        for wrong in ("fast", "0", "-5", "1.5", "", "٣"):
            with self.assertRaises(UsageError):
                parse_speed(wrong)

    def test_a_session_rests_by_its_share_or_by_the_rate(self):
        for speed, rows, took, expected in [
            (Speed("s", 1, rest=1.5), 0, 2.0, [3.0]),
            (Speed("s", 1, rest=0.0), 0, 2.0, []),
            (Speed("s", 2, rest=0.0, rows_a_second=1_000), 500, 0.25, [0.75]),
            (Speed("s", 1, rest=0.0, rows_a_second=1_000), 500, 2.0, []),
        ]:
            pace, waits = self.paced(speed), self.Waits()
            pace.rows_a_piece = rows
            pace.rest(took, waits)
            self.assertEqual(expected, waits.waited)

    def test_it_waits_for_replicas_and_says_why_and_not_for_ever(self):
        values = iter([(0, 0), (400 * pace_module.MB, 0), (0, 0)])
        pace = Pace(parse_speed("normal"), lambda: next(values), lambda text: said.append(text))
        said = []
        for _ in range(2):
            pace._looked = 0.0
            pace.watch()
        self.assertEqual(1, len(said))
        self.assertIn("a replica is 400 MB behind", said[0])
        longest, pace_module._LONGEST_WAIT_S = pace_module._LONGEST_WAIT_S, 0.0
        self.addCleanup(setattr, pace_module, "_LONGEST_WAIT_S", longest)
        kept = iter([(0, 0)] + [(0, 5_000 * pace_module.MB)] * 9)
        slow = Pace(parse_speed("normal"), lambda: next(kept), said.append)
        slow.watch()
        slow._looked = 0.0
        with self.assertRaises(Stopped) as raised:
            slow.watch()
        self.assertIn("replication slot keeps", raised.exception.found)


class ComparisonTest(DatabaseTest):
    """The comparison finds every planted difference, in its leaf, and nothing else."""

    FILLING = """INSERT INTO source SELECT n, CASE WHEN n % 7 <> 0 THEN (ARRAY['a', 'b', 'c d', 'e'])[1 + n % 4] END,
        CASE WHEN n % 50 = 1 THEN 'infinity' WHEN n % 50 = 2 THEN '-infinity' WHEN n % 50 <> 3
             THEN '2025-01-01'::timestamptz + n * interval '1 day' END, n / 3.0 FROM generate_series(1, 400) n"""
    RANGES = ("FROM ('2025-02-01+00') TO ('2025-03-01+00')", "FROM ('2025-05-01+00') TO ('2025-06-01+00')",
              "FROM ('2025-06-01+00') TO ('2025-08-01+00')")  # fmt: skip

    def made(self, by, key, bounds, has_rest=True, below=None):
        """A partitioned table with these partitions and the rows of the source, and the comparison with that."""
        self.sql("DROP TABLE IF EXISTS copy")
        self.sql(f"CREATE TABLE copy (LIKE source) PARTITION BY {by} ({key})")
        for number, bound in enumerate(bounds):
            divided = f" PARTITION BY {below}" if below else ""
            self.sql(f"CREATE TABLE copy_{number} PARTITION OF copy FOR VALUES {bound}{divided}")
            if below:
                for part in range(2):
                    self.sql(f"CREATE TABLE copy_{number}_{part} PARTITION OF copy_{number} "
                             f"FOR VALUES WITH (MODULUS 2, REMAINDER {part})")  # fmt: skip
        if has_rest:
            self.sql("CREATE TABLE copy_rest PARTITION OF copy DEFAULT")
        self.sql("INSERT INTO copy SELECT * FROM source")
        session = open_session(self.dsn)
        self.addCleanup(session.close)
        planned = planned_of(session.catalogue.tree(Name("public", "copy")))
        within = Layout(Name(None, "copy"), By.HASH, ("id",), parts=2) if below else None
        layout = Layout(Name(None, "copy"), By(by.lower()), (key,), within=within)
        types = {"id": "bigint", "name": "text", "at": "timestamptz", "n": "numeric"}
        return Comparison("ONLY source", Name("public", "copy"), layout, planned, ("id", "name", "at", "n"), types[key],
                          record_hash=True).query()  # fmt: skip

    def test_every_planted_difference_is_found(self):
        self.sql("CREATE TABLE source (id bigint, name text, at timestamptz, n numeric)")
        self.sql(self.FILLING)
        for by, key, bounds, rest, below in [
            ("RANGE", "at", self.RANGES, True, None),
            (
                "RANGE",
                "at",
                ("FROM (MINVALUE) TO ('2025-04-01+00')", "FROM ('2025-04-01+00') TO (MAXVALUE)"),
                True,
                None,
            ),
            ("RANGE", "at", self.RANGES, True, "HASH (id)"),
            (
                "RANGE",
                "at",
                [f"FROM ('2025-03-{n:02d}+00') TO ('2025-03-{n + 1:02d}+00')" for n in range(1, 31)],
                True,
                "HASH (id)",
            ),
            ("RANGE", "name", ("FROM (MINVALUE) TO ('c')", "FROM ('c') TO ('e')"), True, None),
            ("RANGE", "n", ("FROM (1.5) TO (20)", "FROM (60.25) TO (MAXVALUE)"), True, None),
            ("LIST", "name", ("IN ('a', NULL)", "IN ('b', 'e')"), True, "HASH (id)"),
            ("LIST", "name", ("IN ('a', NULL)", "IN ('c d')"), True, None),
            ("LIST", "name", ("IN ('a', 'b')", "IN ('c d')"), True, None),
            ("HASH", "id", [f"WITH (MODULUS 3, REMAINDER {n})" for n in range(3)], False, None),
        ]:
            query = self.made(by, key, bounds, rest, below)
            with self.subTest(f"{by} {key} {bounds} {below}"):
                self.assertEqual([], [row for row in self.sql(query) if row[3]])
                self.assertEqual(400, sum(row[1] for row in self.sql(query)))
                for planting in (
                    "UPDATE copy SET n = n + 1 WHERE id = {}",
                    "DELETE FROM copy WHERE id = {}",
                    "INSERT INTO copy SELECT * FROM copy WHERE id = {}",
                    "UPDATE copy SET name = name || ' ' WHERE id = {} AND tableoid = tableoid",
                ):
                    for number in (4, 46, 52, 203, 390):
                        lies = f"SELECT tableoid::regclass::text FROM copy WHERE id = {number}"
                        leaves = {self.value(lies)}
                        with self.connection.transaction(force_rollback=True):
                            self.sql(planting.format(number))
                            leaves |= {leaf for (leaf,) in self.sql(lies)}  # it may have moved
                            differing = {row[0] for row in self.sql(query) if row[3]}
                        name = self.value(f"SELECT name FROM source WHERE id = {number}")
                        if "name" not in planting or name is not None:
                            self.assertEqual(leaves, differing, (planting, number))


class FollowingTest(DatabaseTest):
    """Batches of a log, in any order and done twice, leave the target as the source is."""

    def following(self, **options):
        columns = (Column("id", "int", True), Column("key", "text", False))
        return Following(schema="public", job=1, name="log_1", trigger="t", source=Name("public", "source"),
                         source_leaves=(), is_partitioned=False, target=Name("public", "target"), logged=columns,
                         followed=1, columns=("id", "key", "n"), overrides=False, **options)  # fmt: skip

    def test_random_changes_follow_in_batches_of_any_size(self):
        following = self.following(empties=True)
        self.sql("CREATE TABLE reshaping (job bigint, floor bigint, ceiling bigint, ceiling_xid xid8);"
                 "INSERT INTO reshaping VALUES (1, 0, 0, '0'); CREATE TABLE source (id int PRIMARY KEY, key text, n int);"
                 "CREATE TABLE target (id int, key text, n int) PARTITION BY LIST (key);"
                 "CREATE TABLE target_a PARTITION OF target FOR VALUES IN ('a');"
                 "CREATE TABLE target_rest PARTITION OF target DEFAULT")  # fmt: skip
        for statement in (*following.creation(), *following.recording()):
            self.sql(statement.sql)
        changes = [
            "INSERT INTO source SELECT n, (ARRAY['a', 'b', NULL])[1 + n % 3], n FROM generate_series(1, 90) n",
            "UPDATE source SET key = (ARRAY['a', NULL, 'b'])[1 + (id + n) % 3], n = n + 1 WHERE id % 2 = 0",
            "UPDATE source SET id = id + 1000, key = 'a' WHERE id % 5 = 0",
            "DELETE FROM source WHERE id % 7 = 0",
            "INSERT INTO source VALUES (7, 'b', 0), (14, NULL, 0) ON CONFLICT DO NOTHING",
            "TRUNCATE source",
            "INSERT INTO source SELECT n, NULL, n FROM generate_series(1, 9) n",
            "UPDATE source SET key = 'a' WHERE id > 4",
        ]
        for most in (1, 3, 50, None):
            for change in changes:
                self.sql(change)
                for transaction in ([*following.batch(most)], [*following.batch(most)], following.raising_floor()):
                    with self.connection.transaction():
                        for statement in transaction:
                            self.sql(statement.sql)
            while self.value(following.backlog):
                with self.connection.transaction():
                    for statement in following.batch(most):
                        self.sql(statement.sql)
            self.assertEqual(
                [], self.sql("(TABLE source EXCEPT ALL TABLE target) UNION ALL (TABLE target EXCEPT ALL TABLE source)")
            )
            self.assertEqual(9, self.value("SELECT count(*) FROM target"))
            self.sql("DELETE FROM source")
        self.assertGreater(self.value("SELECT floor FROM reshaping"), 0)
        with self.assertRaises(psycopg.errors.UndefinedFunction):
            self.sql("SELECT public.log_2()")

    def test_the_recorder_runs_with_a_path_of_its_own(self):
        """Who writes may have an operator of theirs found first: the recorder must not run it with its owner's rights."""
        self.sql(
            "CREATE TABLE reshaping (job bigint, floor bigint); CREATE TABLE source (id int PRIMARY KEY, key text, n int)"
        )
        for statement in (*self.following().creation(), *self.following().recording()):
            self.sql(statement.sql)
        self.sql("GRANT ALL ON source TO reader; CREATE SCHEMA evil AUTHORIZATION reader")
        with psycopg.connect(self.dsn_as("reader"), autocommit=True) as other:
            other.execute("CREATE FUNCTION evil.same(text, text) RETURNS boolean LANGUAGE plpgsql AS "
                          "$$ BEGIN RAISE 'evil as %', current_user; END $$;"
                          "CREATE OPERATOR evil.= (LEFTARG = text, RIGHTARG = text, FUNCTION = evil.same);"
                          "SET search_path = evil, pg_catalog, public")  # fmt: skip
            other.execute("INSERT INTO public.source VALUES (1, 'a', 1)")
        self.assertEqual([(1, "a")], self.sql("SELECT new_1, new_2 FROM log_1"))
        self.assertEqual("$slabrow_$", dollar_tag("a $slabrow$ b"))


class KeyChangeTest(unittest.TestCase):
    def test_what_is_added_comes_last(self):
        change = KeyChange("k", "primary key", ("a", "b"), ("a", "b", "c"))
        self.assertEqual(("c",), change.added)
