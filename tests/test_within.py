"""Partitions of partitions, from the layout file to upkeep: what is forecast is built, filled, proved and kept."""

from tests.support import DatabaseTest

LAYOUT = """
[[layout]]
table  = "public.reading"
by     = "range"
key    = ["taken_on"]
span   = "1 month"
from   = 2026-01-01
ahead  = "1 month"
keep   = "3 months"
past_keep = "drop"
within = { by = "hash", key = ["hive_id"], parts = 3 }

[[layout]]
table     = "public.inspection"
by        = "list"
key       = ["zone"]
groups    = { alpine = ["A1", "A2"], coast = ["C1"] }
catch_all = true
within    = { by = "list", key = ["kind"], groups = { spring = ["s"], autumn = ["a", "w"] }, catch_all = true }
"""
TABLES = """
CREATE TABLE reading (id bigint PRIMARY KEY, hive_id int NOT NULL, taken_on date NOT NULL);
INSERT INTO reading SELECT n, n % 40, date '2026-01-01' + n % 90 FROM generate_series(1, 9000) n;
CREATE INDEX ON reading (hive_id);
CREATE TABLE inspection (zone text, kind text, note text);
INSERT INTO inspection SELECT (ARRAY['A1','A2','C1','H9',NULL])[1 + n % 5], (ARRAY['s','a','w',NULL])[1 + n % 4], 'n' FROM generate_series(1, 4000) n;
ANALYZE reading, inspection;
"""
QUERIES = """
-- name: one-leaf
-- touches: = 1
SELECT 1 FROM reading WHERE taken_on = '2026-02-03' AND hive_id = 7;
-- name: one-month
-- touches: = 3
SELECT 1 FROM reading WHERE taken_on >= '2026-02-01' AND taken_on < '2026-03-01';
-- name: one-hive
-- touches: <= 5
SELECT 1 FROM reading WHERE hive_id = 7;
-- name: alpine-spring
-- touches: = 1
SELECT 1 FROM inspection WHERE zone = 'A2' AND kind = 's';
-- name: no-zone
-- touches: = 3
SELECT 1 FROM inspection WHERE zone IS NULL;
-- name: no-kind
-- touches: = 3
SELECT 1 FROM inspection WHERE kind IS NULL;
"""
NOW = ("--now", "2026-03-20")


class WithinTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql(TABLES)
        self.layout(LAYOUT)
        (self.folder / "queries.sql").write_text(QUERIES)

    def census(self, table):
        # Rows in a catch-all are a finding.
        found = self.json("census", table, "--exact", code=int(table == "inspection"))["partitions"]
        return {each["name"]: each["rows"] for each in found}

    def test_what_is_forecast_is_what_conversion_gives(self):
        for table in ("reading", "inspection"):
            with self.subTest(table):
                ahead = self.json("forecast", "--table", f"public.{table}", "--exact", *NOW)["partitions"]
                self.assertEqual(self.value(f"SELECT count(*) FROM {table}"), sum(each["rows"] for each in ahead))
                self.slabrow("convert", "--way", "locked", "--table", f"public.{table}", *NOW, "--go")
                held = self.census(table)
                self.assertEqual(
                    {each["name"]: each["rows"] for each in ahead}, {each["name"]: held[each["name"]] for each in ahead}
                )
        self.assertIn(
            "(id, taken_on, hive_id)",
            self.value(
                "SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = 'reading'::regclass AND contype = 'p'"
            ),
        )
        proved = self.json("prove", "--queries", "queries.sql")
        self.assertEqual([], [each["name"] for each in proved["queries"] if each["ok"] is False])
        for each in proved["queries"]:
            self.assertEqual(each["planned"], each["predicted"], each["name"])

    def test_estimates_are_near_the_counts(self):
        for table in ("reading", "inspection"):
            exact = self.json("forecast", "--table", f"public.{table}", "--exact", *NOW)["partitions"]
            guessed = self.json("forecast", "--table", f"public.{table}", *NOW)["partitions"]
            for one, other in zip(exact, guessed, strict=True):
                with self.subTest(one["name"]):
                    self.assertEqual(one["name"], other["name"])
                    self.assertAlmostEqual(one["rows"], other["rows"], delta=0.4 * one["rows"] + 60)

    def test_upkeep_makes_whole_partitions_and_drops_whole_ones(self):
        self.slabrow("convert", "--way", "locked", "--table", "public.reading", *NOW, "--go")
        self.assertEqual([], self.json("tend", "--table", "public.reading", *NOW)["actions"])
        later = ("--now", "2026-05-20")
        actions = self.json("tend", "--table", "public.reading", *later, code=1)["actions"]
        kinds = [(each["kind"], each["partition"].split(".")[-1]) for each in actions]
        self.assertEqual(
            [("create", "reading_2026_05"), ("create", "reading_2026_06"), ("drop", "reading_2026_01")], kinds
        )
        self.slabrow("tend", "--table", "public.reading", *later, "--go")
        names = self.census("reading")
        self.assertIn("reading_2026_06_m3r02", names)
        self.assertNotIn("reading_2026_01_m3r00", names)
        self.assertEqual([], self.json("tend", "--table", "public.reading", *later)["actions"])
        self.sql("INSERT INTO reading SELECT 100000 + n, n, '2026-06-15' FROM generate_series(1, 100) n")
        self.assertEqual(100, self.value("SELECT count(*) FROM reading_2026_06"))

    def test_a_partition_that_is_divided_in_another_way_is_drift(self):
        self.slabrow("convert", "--way", "locked", "--table", "public.inspection", "--go")
        self.layout(
            LAYOUT.replace(
                'within    = { by = "list", key = ["kind"], groups = { spring = ["s"], autumn = ["a", "w"] }, catch_all = true }',
                "",
            )
        )
        told = self.slabrow("tend", "--table", "public.inspection", code=1).stdout
        self.assertIn("is divided by list (kind), and the layout says not to be", " ".join(told.split()))

    def test_a_new_table_is_built_with_all_its_leaves(self):
        self.sql("CREATE TABLE like_this (LIKE reading INCLUDING ALL); DROP TABLE reading CASCADE")
        self.slabrow("build", "--table", "public.reading", "--like", "like_this", *NOW, "--go")
        leaves = self.value("SELECT count(*) FROM pg_partition_tree('reading') WHERE isleaf")
        self.assertEqual(4 * 3, leaves)
        self.sql("INSERT INTO reading VALUES (1, 5, '2026-03-03')")
        self.assertEqual(
            "reading_2026_03",
            self.value(
                "SELECT inhparent::regclass::text FROM pg_inherits WHERE inhrelid = (SELECT tableoid FROM reading)"
            ),
        )

    def test_a_dump_of_it_reads_back_to_the_same_tree(self):
        self.slabrow("convert", "--way", "locked", "--table", "public.reading", *NOW, "--go")
        rows = self.sql(
            "SELECT c.relname, pg_get_expr(c.relpartbound, c.oid), i.inhparent::regclass::text, c.relkind = 'p'"
            " FROM pg_partition_tree('reading') p JOIN pg_class c ON c.oid = p.relid JOIN pg_inherits i ON i.inhrelid = c.oid ORDER BY p.level"
        )
        ddl = "CREATE TABLE reading (id bigint, hive_id int NOT NULL, taken_on date NOT NULL) PARTITION BY RANGE (taken_on);\n"
        for name, bound, parent, divided in rows:
            ddl += f"CREATE TABLE {name} PARTITION OF {parent} {bound}" + (
                " PARTITION BY HASH (hive_id);\n" if divided else ";\n"
            )
        (self.folder / "tables.sql").write_text(ddl)
        (self.folder / "queries.sql").write_text(QUERIES.split("-- name: alpine")[0])
        live = self.json("prove", "--queries", "queries.sql")["queries"]
        ahead = self.json("prove", "--queries", "queries.sql", "--offline", "--schema", "tables.sql")["queries"]
        self.assertEqual([each["planned"] for each in live], [each["predicted"] for each in ahead])
