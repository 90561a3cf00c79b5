"""Prediction against the server's plans: the classes of statements that people write, and random ones, on many layouts."""

import argparse
from collections import Counter

from benchmarks import corpus, random_statements
from benchmarks.classes import BEFORE
from benchmarks.classes import LAYOUTS as MORE
from slabrow.servers.postgresql.connection import connect
from tests.support import DatabaseTest, binaries

LAYOUTS = (*corpus.LAYOUTS, *MORE)


class AgreementTest(DatabaseTest):
    """`narrower` would be a leaf that the server reads and that was not predicted: none is allowed, ever."""

    is_long = True

    def connect(self):
        connection = connect(self.dsn)
        self.addCleanup(connection.close)
        connection.execute("SET timezone = 'Europe/Berlin'; SET max_parallel_workers_per_gather = 0")
        for each in BEFORE:
            connection.execute(each.encode())
        return connection

    def test_every_class_on_every_layout(self):
        connection = self.connect()
        tally = corpus.Tally()
        wider = Counter()
        for layout in LAYOUTS:
            wider += corpus.judge(connection, layout, tally, False)
        self.assertGreater(tally.asked, 5_000)
        self.assertEqual((0, 0), (tally.narrower, tally.misread))
        self.assertGreaterEqual(tally.equal / tally.asked, 0.99, wider.most_common(5))

    def test_random_joins_sub_queries_and_contradictions(self):
        connection = self.connect()
        for probes in (False, True):
            tally = corpus.Tally()
            for layout in LAYOUTS:
                random_statements.judge(
                    connection, layout, tally, argparse.Namespace(seed=12, count=15, verbose=False, probes=probes)
                )
            self.assertGreater(tally.asked, 400)
            self.assertEqual(0, tally.narrower)
            self.assertGreaterEqual(tally.equal / tally.asked, 0.85 if probes else 0.95)


for _each in binaries()[1:]:
    globals()[f"AgreementOn{_each.version}Test"] = type(
        f"AgreementOn{_each.version}Test", (AgreementTest,), {"version": _each.version}
    )


# Statements that once were predicted narrower than the plan, or that could be; the leaves are those of the plan.
MIXED = """
CREATE TABLE reading (coop text, day date, n int, l int) PARTITION BY LIST (coop);
CREATE TABLE r_alder PARTITION OF reading FOR VALUES IN ('alder') PARTITION BY RANGE (day);
CREATE TABLE r_alder_1 PARTITION OF r_alder FOR VALUES FROM ('2026-01-01') TO ('2026-02-01');
CREATE TABLE r_alder_2 PARTITION OF r_alder FOR VALUES FROM ('2026-02-01') TO ('2026-03-01');
CREATE TABLE r_birch PARTITION OF reading FOR VALUES IN ('birch') PARTITION BY RANGE (n);
CREATE TABLE r_birch_1 PARTITION OF r_birch FOR VALUES FROM (0) TO (10);
CREATE TABLE r_birch_2 PARTITION OF r_birch FOR VALUES FROM (10) TO (20);
CREATE TABLE r_cedar PARTITION OF reading FOR VALUES IN ('cedar') PARTITION BY HASH (n);
CREATE TABLE r_cedar_0 PARTITION OF r_cedar FOR VALUES WITH (MODULUS 2, REMAINDER 0);
CREATE TABLE r_cedar_1 PARTITION OF r_cedar FOR VALUES WITH (MODULUS 2, REMAINDER 1);
CREATE TABLE r_rest PARTITION OF reading DEFAULT;
CREATE TABLE hive (coop text, n int, day date);
INSERT INTO reading SELECT (ARRAY['alder', 'birch', 'cedar', 'dune'])[1 + g % 4], date '2026-01-01' + g % 59, g % 20, g FROM generate_series(0, 999) g;
INSERT INTO hive SELECT coop, n, day FROM reading; ANALYZE;
CREATE FUNCTION day_of(int) RETURNS date VOLATILE LANGUAGE sql AS 'SELECT date ''2026-01-01'' + $1';
CREATE OPERATOR === (LEFTARG = int, RIGHTARG = int, FUNCTION = int4ne);
"""
MIXED_QUERIES = (
    "SELECT * FROM reading WHERE coop = 'alder' AND day = '2026-01-05'", "SELECT * FROM reading WHERE coop = 'birch' AND n = 5",
    "SELECT * FROM reading WHERE n = 5", "SELECT * FROM reading WHERE day >= '2026-02-01'", "SELECT * FROM reading WHERE coop = 'cedar' AND n = 5",
    "SELECT * FROM reading WHERE n = 5 AND day = '2026-02-05'", "SELECT * FROM reading WHERE coop IN ('alder', 'birch') AND n < 10",
    "SELECT * FROM reading r JOIN hive h ON h.coop = r.coop WHERE h.coop = 'alder'", "SELECT * FROM reading r LEFT JOIN hive h ON h.coop = r.coop WHERE h.coop = 'alder'",
    "SELECT * FROM hive h LEFT JOIN reading r ON h.coop = r.coop AND r.coop = 'birch'", "SELECT * FROM hive h LEFT JOIN reading r ON h.coop = r.coop WHERE h.coop = 'birch'",
    "SELECT * FROM reading WHERE (coop = 'alder' AND n = 1) OR (coop = 'birch' AND n = 1)", "SELECT * FROM reading WHERE n OPERATOR(public.===) 5 AND coop = 'birch'",
    "SELECT * FROM reading WHERE n OPERATOR(pg_catalog.=) 5 AND coop = 'birch'", "SELECT * FROM reading WHERE coop = 'alder' AND day = day_of(4)",
    "SELECT * FROM reading WHERE coop = 'alder' AND EXISTS (SELECT FROM hive h WHERE h.coop = reading.coop AND h.day = day_of(4))",
    "SELECT * FROM reading r WHERE NOT EXISTS (SELECT FROM hive h WHERE h.coop = r.coop AND h.coop = 'alder')",
    "SELECT * FROM reading r WHERE r.coop NOT IN (SELECT coop FROM hive WHERE coop = 'alder')", "SELECT * FROM reading r WHERE r.coop IN (SELECT coop FROM hive WHERE coop = 'alder')",
    "SELECT * FROM reading r FULL JOIN hive h ON h.coop = r.coop WHERE h.coop = 'alder'", "SELECT * FROM reading r JOIN hive h USING (coop) WHERE coop = 'birch' AND r.n = 3",
    "SELECT * FROM reading NATURAL JOIN hive WHERE coop = 'birch'", "SELECT * FROM reading WHERE coop = 'birch' AND n <@ int4range(0, 5)", "SELECT * FROM reading WHERE coop = 'alder' AND coop = 'birch'",
    "SELECT * FROM reading WHERE coop = 'alder' AND day > '2026-02-01' AND day < '2026-01-01'", "SELECT * FROM (VALUES ('birch', 5)) v (c, m) JOIN reading ON coop = c AND n = m",
    "SELECT * FROM hive h, LATERAL (SELECT * FROM reading r WHERE r.coop = h.coop AND r.coop = 'alder') s", "SELECT * FROM reading WHERE coop > 'b' AND n = 3", "SELECT * FROM reading WHERE coop LIKE 'al%'",
    "SELECT * FROM reading WHERE lower(coop) = 'alder'", "SELECT * FROM reading WHERE coop || '' = 'alder'", "SELECT * FROM reading WHERE coop = ANY ('{alder,birch}') AND n = 11",
    "UPDATE reading SET l = 0 WHERE coop = 'birch' AND n >= 10", "DELETE FROM reading r USING hive h WHERE r.coop = h.coop AND h.coop = 'alder' AND r.day = '2026-01-09'",
    "SELECT * FROM reading WHERE (coop, n) = ('birch', 3)", "SELECT * FROM reading WHERE coop IS NULL", "SELECT * FROM reading WHERE coop = 'alder' AND day IS NULL", "SELECT * FROM reading WHERE coop = 'dune' AND n = 3",
    "SELECT * FROM reading WHERE coop COLLATE \"C\" = 'alder'", "SELECT * FROM reading WHERE NOT (coop <> 'birch') AND n + 0 = 3", "SELECT * FROM reading WHERE n = '5' AND coop = 'birch'",
)  # fmt: skip


class MixedTreeTest(DatabaseTest):
    """Partitions that are divided each in its own way: their keys are their own, and so is their order."""

    def setUp(self):
        super().setUp()
        self.sql(MIXED)

    def test_each_level_is_pruned_by_its_own_key(self):
        (self.folder / "q.sql").write_text("".join(f"-- name: q{n}\n{sql};\n" for n, sql in enumerate(MIXED_QUERIES)))
        found = {each["name"]: each for each in self.json("prove", "--queries", "q.sql")["queries"]}
        equal = 0
        for number, sql in enumerate(MIXED_QUERIES):
            with self.subTest(sql):
                planned, predicted = map(self.leaves, (found[f"q{number}"][what] for what in ("planned", "predicted")))
                self.assertLessEqual(planned, predicted)
                equal += planned == predicted
        self.assertGreaterEqual(equal, len(MIXED_QUERIES) - 3)

    def leaves(self, names):
        """None is: not understood, and so all of them."""
        return (
            {name for (name,) in self.sql("SELECT relid::text FROM pg_partition_tree('reading') WHERE isleaf")}
            if names is None
            else set(names)
        )

    def test_rows_are_routed_counted_and_dumped_level_by_level(self):
        found = self.json("census", "reading", "--exact", code=1)
        self.assertEqual(["catch_all_rows"], [each["code"] for each in found["findings"]])
        counted = {
            each["name"]: each["rows"]
            for each in found["partitions"]
            if each["name"] not in ("r_alder", "r_birch", "r_cedar")
        }
        for leaf, rows in counted.items():
            self.assertEqual(self.value(f"SELECT count(*) FROM {leaf}"), rows, leaf)
        self.assertEqual(1_000, sum(counted.values()))

    def test_the_definitions_alone_give_the_same(self):
        (self.folder / "q.sql").write_text("".join(f"-- name: q{n}\n{sql};\n" for n, sql in enumerate(MIXED_QUERIES)))
        (self.folder / "schema.sql").write_text(
            "\n".join(line for line in MIXED.splitlines() if line.startswith("CREATE TABLE"))
        )
        found = {each["name"]: each for each in self.json("prove", "--queries", "q.sql")["queries"]}
        offline = self.json("prove", "--queries", "q.sql", "--offline", "--schema", "schema.sql", code=1)
        for each in offline["queries"]:
            with self.subTest(each["name"]):
                self.assertLessEqual(set(found[each["name"]]["planned"]), set(each["predicted"]))


COLLATED = """
CREATE TABLE a (k text COLLATE "C" NOT NULL, v int) PARTITION BY RANGE (k);
CREATE TABLE a_1 PARTITION OF a FOR VALUES FROM ('a') TO ('m'); CREATE TABLE a_2 PARTITION OF a FOR VALUES FROM ('m') TO ('z');
CREATE TABLE b (k text, v int) PARTITION BY LIST (k COLLATE "C");
CREATE TABLE b_1 PARTITION OF b FOR VALUES IN ('a'); CREATE TABLE b_2 PARTITION OF b FOR VALUES IN ('m');
CREATE TABLE c (k text COLLATE "C", v int) PARTITION BY LIST (k COLLATE "C");
CREATE TABLE c_1 PARTITION OF c FOR VALUES IN ('a'); CREATE TABLE c_2 PARTITION OF c FOR VALUES IN ('m');
"""


class CollationTest(DatabaseTest):
    def test_a_key_of_another_collation_than_its_column_is_compared_with_nothing_bare(self):
        self.sql(COLLATED)
        conditions = (
            "k < 'b'",
            "k BETWEEN 'n' AND 'p'",
            "k = 'a'",
            "k COLLATE \"C\" = 'a'",
            "k IN ('a', 'b')",
            "k IS NULL",
            "k <> 'a'",
        )
        (self.folder / "q.sql").write_text(
            "".join(f"SELECT * FROM {table} WHERE {each};\n" for table in "abc" for each in conditions)
        )
        (self.folder / "schema.sql").write_text(COLLATED)
        online = self.json("prove", "--queries", "q.sql")["queries"]
        offline = self.json("prove", "--queries", "q.sql", "--offline", "--schema", "schema.sql")["queries"]
        for there, here in zip(online, offline, strict=True):
            with self.subTest(there["sql"] if "sql" in there else there["name"]):
                self.assertLessEqual(set(there["planned"]), set(there["predicted"]))
                self.assertLessEqual(set(there["planned"]), set(here["predicted"]))
                self.assertEqual(there["predicted"], here["predicted"])
