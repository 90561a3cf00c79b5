"""What a plan says, for every kind of node through which partitions show or vanish: on the newest server and the oldest."""

from psycopg.conninfo import conninfo_to_dict

from slabrow.core.values.errors import ServerError
from slabrow.core.weighing.partition_ceiling import Timed, crowding
from slabrow.servers.postgresql.ask.queries import Query, plan, plan_generic, plan_unvalued, run
from slabrow.servers.postgresql.connection import connect
from tests.support import DatabaseTest, binaries

TABLES = """
CREATE TABLE t (k int, v int, d int) PARTITION BY RANGE (k);
CREATE TABLE t_1 PARTITION OF t FOR VALUES FROM (0) TO (100);
CREATE TABLE t_2 PARTITION OF t FOR VALUES FROM (100) TO (200);
CREATE TABLE t_3 PARTITION OF t FOR VALUES FROM (200) TO (300) PARTITION BY LIST (d);
CREATE TABLE t_3a PARTITION OF t_3 FOR VALUES IN (0, 1);
CREATE TABLE t_3b PARTITION OF t_3 FOR VALUES IN (2);
CREATE TABLE u (k int, w int) PARTITION BY RANGE (k);
CREATE TABLE u_1 PARTITION OF u FOR VALUES FROM (0) TO (100);
CREATE TABLE u_2 PARTITION OF u FOR VALUES FROM (100) TO (200);
CREATE TABLE u_3 PARTITION OF u FOR VALUES FROM (200) TO (300);
CREATE TABLE one (n int, PRIMARY KEY (n));
INSERT INTO t SELECT n, n % 7, n % 3 FROM generate_series(0, 299) n;
INSERT INTO u SELECT n, n FROM generate_series(0, 299) n;
INSERT INTO one VALUES (5), (7), (150);
CREATE INDEX ON t (k); CREATE INDEX ON u (k); ANALYZE t, u, one;
CREATE FUNCTION later() RETURNS int LANGUAGE plpgsql STABLE AS 'BEGIN RETURN 150; END';
"""
ALL = "t_1 t_2 t_3a t_3b"
NESTED = "enable_hashjoin = off; enable_mergejoin = off; enable_material = off; enable_memoize = off"
WISE = "enable_partitionwise_join = on; enable_partitionwise_aggregate = on"
FORCED = (
    "parallel_setup_cost = 0; parallel_tuple_cost = 0; min_parallel_table_scan_size = 0; max_parallel_workers = 2;"
    "max_parallel_workers_per_gather = 2; enable_indexscan = off; enable_bitmapscan = off; enable_indexonlyscan = off"
)
# what it shows, settings, SQL, leaves planned after the start, leaves executed, leaves pruned while running
CASES = [
    ("an append that falls together with its only child", "", "SELECT * FROM t WHERE k = 5", "t_1", "t_1", ""),
    ("partitions of partitions", "", "SELECT * FROM t WHERE k > 250 AND d = 2", "t_3b", "t_3b", ""),
    ("nothing is left", "", "SELECT * FROM t WHERE k = 900", "", "", ""),
    ("a one-time filter that is false", "", "SELECT * FROM t WHERE 1 = 2", "", "", ""),
    ("a one-time filter that turns out false", "", "SELECT * FROM t WHERE later() < 0", ALL, "", ""),
    ("a value known at start", "", "SELECT * FROM t WHERE k = later()", "t_2", "t_2", ""),
    ("everything left out at start", "", "SELECT * FROM t WHERE k = later() + 900", "", "", ""),
    ("an init plan", "", "SELECT * FROM t WHERE k = (SELECT min(n) FROM one)", ALL, "t_1", "t_2 t_3a t_3b"),
    ("a nested loop", NESTED, "SELECT * FROM one JOIN t ON t.k = one.n", ALL, "t_1 t_2", "t_3a t_3b"),
    ("a limit is no pruning", "", "SELECT * FROM t LIMIT 3", ALL, "t_1", ""),
    ("a limit above a nested loop", NESTED, "SELECT * FROM one JOIN t ON t.k = one.n LIMIT 1", ALL, "t_1", "t_2 t_3a t_3b"),
    ("a sort below a limit reads all", "", "SELECT * FROM t ORDER BY v LIMIT 1", ALL, ALL, ""),
    ("EXISTS stops at the first row", "", "SELECT 1 WHERE EXISTS (SELECT FROM t)", ALL, "t_1", ""),
    ("an empty outer side", NESTED, "SELECT * FROM one JOIN t ON t.k = one.n WHERE one.n + 0 = 99", ALL, "", ""),
    ("a merge append", "enable_sort = off", "SELECT * FROM t WHERE k < 200 ORDER BY k", "t_1 t_2", "t_1 t_2", ""),
    ("a bitmap scan", "enable_seqscan = off; enable_indexscan = off", "SELECT v FROM t WHERE k IN (5, 150)", "t_1 t_2", "t_1 t_2", ""),
    ("an index-only scan", "enable_seqscan = off", "SELECT k FROM t WHERE k < 50", "t_1", "t_1", ""),
    ("two places of one table", "", "SELECT * FROM t a JOIN t b ON a.k = 5 AND b.k = 150", "t_1 t_2", "t_1 t_2", ""),
    ("a CTE read twice", "", "WITH c AS (SELECT * FROM t WHERE k < 200) SELECT * FROM c JOIN c d USING (v)", "t_1 t_2", "t_1 t_2", ""),
    ("a union", "", "SELECT k FROM t WHERE k = 5 UNION ALL SELECT k FROM t WHERE k = 250", "t_1 t_3a t_3b", "t_1 t_3a t_3b", ""),
    ("a join part by part", WISE, "SELECT * FROM t JOIN u USING (k) WHERE k < 200", "t_1 t_2 u_1 u_2", "t_1 t_2 u_1 u_2", ""),
    ("the same, which knows no pruning at start", WISE, "SELECT * FROM t JOIN u USING (k) WHERE k < later()", f"{ALL} u_1 u_2 u_3", f"{ALL} u_1 u_2", ""),
    ("aggregates part by part", WISE, "SELECT k, count(*) FROM t WHERE k < later() GROUP BY k", ALL, ALL, ""),
    ("parallel", FORCED, "SELECT count(*) FROM t WHERE k < 200", "t_1 t_2", "t_1 t_2", ""),
    ("a sample", "", "SELECT * FROM t TABLESAMPLE SYSTEM (100) WHERE k = 5", "t_1", "t_1", ""),
    ("a place in the list of results", "", "SELECT (SELECT count(*) FROM t WHERE t.k = one.n) FROM one", ALL, "t_1 t_2", "t_3a t_3b"),
]  # fmt: skip


class PlansTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql(TABLES)
        self.asked = connect(self.dsn)
        self.addCleanup(self.asked.close)

    def leaves(self, reading, which=lambda scan: True):
        names = {scan.relation.removeprefix("public.") for scan in reading.scans if which(scan)}
        return " ".join(sorted(names - {"one"}))

    def test_each_kind_of_node(self):
        for what, settings, sql, planned, executed, pruned in CASES:
            with self.subTest(what):
                for setting in filter(None, settings.split(";")):
                    self.asked.execute(f"SET {setting}")
                reading = run(self.asked, Query(sql), 20_000)
                self.assertEqual(planned, self.leaves(plan(self.asked, Query(sql), 20_000)))
                self.assertEqual(executed, self.leaves(reading, lambda scan: scan.loops))
                self.assertEqual(pruned, self.leaves(reading, lambda scan: scan.was_pruned_running))
                self.asked.execute("RESET ALL")

    def test_what_is_counted(self):
        reading = run(self.asked, Query("SELECT * FROM t WHERE v = 3"), 20_000)
        self.assertEqual((300, 43), (sum(scan.rows_read for scan in reading.scans), reading.rows))
        self.assertGreater(reading.blocks, 0)
        removed = plan(self.asked, Query("SELECT * FROM t WHERE k = later()"), 20_000).removed
        self.assertEqual(1, len(removed))
        self.assertIn(sum(removed.values()), (2, 3))  # t_3 counts as one member, or as its two leaves

    def test_settings_that_change_what_prunes_are_known_to_the_prediction(self):
        sql = "-- name: join\nSELECT count(*) FROM t JOIN u USING (k) WHERE t.k < later();\n-- name: alone\nSELECT * FROM t WHERE k = 5;"
        (self.folder / "q.sql").write_text(sql)
        for setting, alone in [("enable_partitionwise_join = on", 1), ("enable_partitionwise_aggregate = on", 1), ("enable_partition_pruning = off", 4)]:  # fmt: skip
            with self.subTest(setting):
                self.sql(f"ALTER DATABASE {self.database} SET {setting}")
                queries = self.json("prove", "--queries", "q.sql")["queries"]
                self.assertEqual([], [each for each in queries if not set(each["planned"]) <= set(each["predicted"])])
                self.assertEqual([alone], [len(each["planned"]) for each in queries if each["name"] == "alone"])
                self.sql(f"ALTER DATABASE {self.database} RESET {setting.split()[0]}")

    def test_prepared_statements(self):
        lists = {"k = ANY ($1)": (1, 4), "k IN ($1, $2)": (1, 1), "k = $1": (1, 1), "k >= $1 AND k < $2": (1, 1)}
        for where, (custom, generic) in lists.items():
            with self.subTest(where):
                given = ("'{5}'::int[]",) if "ANY" in where else ("5", "9")[: where.count("$")]
                query = Query(f"SELECT * FROM t WHERE {where}", given)
                self.assertEqual(custom, len(plan(self.asked, query, 9_000).scans))
                self.assertEqual(generic, len(plan_generic(self.asked, query, 9_000).scans))
                unvalued = plan_unvalued(self.asked, query.sql, 9_000)
                self.assertEqual(4, len(unvalued.plan.scans))
                self.assertEqual("ANY" not in where, unvalued.may_prune_at_start)
                self.assertEqual(("integer[]",) if "ANY" in where else ("integer",) * len(given), unvalued.types)
        kept = plan_unvalued(self.asked, "SELECT '$1' AS \"$1\" FROM t WHERE k = 5 AND v = $1 -- $2", 9_000)
        self.assertEqual((1, False, ("integer",)), (len(kept.plan.scans), kept.may_prune_at_start, kept.types))
        for sql in ("SELECT * FROM t WHERE k = $1; DROP TABLE t", "SELECT * FROM nowhere WHERE k = $1"):
            with self.assertRaises(ServerError):
                plan_unvalued(self.asked, sql, 9_000)
        self.assertEqual(300, self.value("SELECT count(*) FROM t"))


class OldPlansTest(PlansTest):
    version = binaries()[-1].version


class ForeignTest(DatabaseTest):
    """Partitions on another server: alone, and where that server joins and counts by itself."""

    def test_foreign_partitions(self):
        server = conninfo_to_dict(self.dsn)
        self.sql(
            "CREATE TABLE far_1 (k int, v int); CREATE TABLE far_2 (k int, v int); INSERT INTO far_1 SELECT 1, 1; INSERT INTO far_2 SELECT 2, 2;"
            "CREATE EXTENSION postgres_fdw; CREATE SERVER back FOREIGN DATA WRAPPER postgres_fdw"
            f" OPTIONS (host '{server['host']}', port '{server.get('port', 5432)}', dbname '{self.database}');"
            "CREATE USER MAPPING FOR CURRENT_USER SERVER back; CREATE TABLE f (k int, v int) PARTITION BY LIST (k);"
            "CREATE FOREIGN TABLE \"f 1\" PARTITION OF f FOR VALUES IN (1) SERVER back OPTIONS (table_name 'far_1');"
            "CREATE FOREIGN TABLE f_2 PARTITION OF f FOR VALUES IN (2) SERVER back OPTIONS (table_name 'far_2');"
        )
        connection = connect(self.dsn)
        self.addCleanup(connection.close)
        connection.execute("SET enable_partitionwise_join = on; SET enable_partitionwise_aggregate = on")
        for sql, expected in [
            ("SELECT * FROM f WHERE k = 1", {"public.f 1"}),
            ("SELECT * FROM f", {"public.f 1", "public.f_2"}),
            ("SELECT a.v FROM f a JOIN f b ON a.k = b.k", {"public.f 1", "public.f_2"}),
            ("SELECT k, count(*) FROM f WHERE k = 2 GROUP BY k", {"public.f_2"}),
            ("UPDATE f SET v = 5 WHERE k = 1", {"public.f 1"}),
        ]:
            with self.subTest(sql):
                self.assertEqual(expected, {scan.relation for scan in plan(connection, Query(sql), 9_000).scans})


class CrowdingTest(DatabaseTest):
    def test_the_number_of_partitions_that_pays(self):
        def timed(total, in_plan, prunes, planning, execution):
            return Timed("q", total, in_plan, prunes, planning, execution)

        self.assertIsNone(crowding([timed(1_000, 1_000, False, 50.0, 90.0)]))
        self.assertIsNone(crowding([timed(1_000, 1, True, 0.3, 0.1)]), "one leaf is planned: no matter of their number")
        useless = crowding([timed(1_000, 1_000, False, 50.0, 2.0)])
        self.assertEqual((1, False), (useless.sensible, useless.gains))
        both = crowding([timed(1_000, 1_000, False, 100.2, 20.0), timed(1_000, 1, True, 0.2, 4.0)])
        self.assertEqual((200, True), (both.sensible, both.gains))
