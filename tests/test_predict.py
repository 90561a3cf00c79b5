"""Prediction against the server: never fewer leaves than its plan shows, and mostly just as many."""

import random

from slabrow.core.pruning.predict import Predictor
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.ask import predicting
from slabrow.servers.postgresql.ask.queries import Query, plan
from slabrow.servers.postgresql.read import catalogue
from tests.support import DatabaseTest, binaries

CHANCE = random.Random(4)
DAYS = [
    "2025-12-31",
    "2026-01-01",
    "2026-01-15",
    "2026-02-01",
    "2026-02-28",
    "2026-03-01",
    "2026-04-01",
    "2026-05-01",
    "infinity",
]
LAYOUTS = {
    "range of dates with a gap and a catch-all": (
        "k date, v int", "RANGE (k)",
        ["FROM ('2026-01-01') TO ('2026-02-01')", "FROM ('2026-02-01') TO ('2026-03-01')", "FROM ('2026-04-01') TO ('2026-05-01')", "DEFAULT"],
        ["k"], [f"'{day}'" for day in DAYS] + ["date '2026-02-01'", "'2026-02-01'::date", "now()::date", "'2026-02-01'::timestamptz"]),
    "range of instants with open ends": (
        "k timestamptz, v int", "RANGE (k)",
        ["FROM (MINVALUE) TO ('2026-01-01 00:00+00')", "FROM ('2026-01-01 00:00+00') TO ('2026-02-01 00:00+00')",
         "FROM ('2026-02-01 00:00+00') TO ('2026-03-01 00:00+00')", "FROM ('2026-03-01 00:00+00') TO (MAXVALUE)"],
        ["k"], [f"'{day}'" for day in DAYS] + ["'2026-01-01 05:30+05:30'", "'2026-03-29 02:30'", "timestamptz '2026-01-31 23:59:59.9999999'",
                                                "date '2026-02-01'", "now()"]),
    "range of numbers without a catch-all": (
        "k bigint, v int", "RANGE (k)", ["FROM (0) TO (10)", "FROM (10) TO (20)", "FROM (20) TO (MAXVALUE)"],
        ["k"], ["0", "5", "10", "-1", "19", "20", "100", "5.0", "'10'", "9223372036854775808", "(15)", "v"]),
    "range of two columns": (
        "k int, l int", "RANGE (k, l)", ["FROM (0, 0) TO (5, MINVALUE)", "FROM (5, MINVALUE) TO (5, 7)", "FROM (5, 7) TO (9, 9)", "DEFAULT"],
        ["k", "l"], ["0", "4", "5", "7", "8", "9", "-3"]),
    "list of texts with NULL": (
        "k text, v int", "LIST (k)", ["IN ('a', 'b')", "IN ('c', NULL)", "IN ('d')"], ["k"], ["'a'", "'c'", "'z'", "''", "'d'::text", "lower('D')"]),
    "list of numbers with a catch-all": (
        "k int, v int", "LIST (k)", ["IN (1, 2)", "IN (3)", "IN (5)", "DEFAULT"], ["k"], ["1", "2", "3", "4", "5", "9", "-1"]),
    "list of truth values": ("k boolean, v int", "LIST (k)", ["IN (true)", "IN (false)", "DEFAULT"], ["k"], ["true", "false", "'t'"]),
    "hash of a number": (
        "k int, v int", "HASH (k)", [f"WITH (MODULUS 4, REMAINDER {r})" for r in range(4)], ["k"], ["1", "2", "3", "4", "77", "'5'", "random()::int"]),
    "hash of two columns": (
        "k bigint, l text", "HASH (k, l)", ["WITH (MODULUS 2, REMAINDER 0)", "WITH (MODULUS 4, REMAINDER 1)", "WITH (MODULUS 4, REMAINDER 3)"],
        ["k", "l"], ["1", "2", "'3'", "'abc'", "'x'"]),
}  # fmt: skip


def condition(columns, constants, depth=2):
    """A random condition over key columns, as people and as machines write them."""
    column, constant = CHANCE.choice(columns), lambda: CHANCE.choice(constants)
    if depth and CHANCE.random() < 0.55:
        one, other = (condition(columns, constants, depth - 1) for _ in range(2))
        return CHANCE.choice([
            f"{one} AND {other}", f"({one} OR {other})", f"({one}) AND ({other})", f"NOT ({one} OR {other})", f"NOT ({one} AND {other})",
            f"({one}) IS {CHANCE.choice(('', 'NOT '))}{CHANCE.choice(('TRUE', 'FALSE', 'UNKNOWN'))} AND {other}",
            f"CASE WHEN {one} THEN {other} ELSE false END",
        ])  # fmt: skip
    return CHANCE.choice([
        f"{column} = {constant()}", f"{column} = {constant()}", f"{column} >= {constant()}", f"{column} < {constant()}",
        f"{column} > {constant()}", f"{column} <= {constant()}", f"{constant()} >= {column}", f"{column} <> {constant()}",
        f"{column} BETWEEN {constant()} AND {constant()}", f"{column} IN ({constant()}, {constant()})",
        f"{column} NOT IN ({constant()}, {constant()})", f"{column} IS NULL", f"{column} IS NOT NULL",
        f"{column} = ANY (ARRAY[{constant()}, {constant()}])", f"NOT ({column} = {constant()})", f"coalesce({column}, {constant()}) = {constant()}",
        f"{column} NOT BETWEEN {constant()} AND {constant()}", f"{column} BETWEEN SYMMETRIC {constant()} AND {constant()}",
        f"{column} IS DISTINCT FROM {constant()}", f"{column} IS NOT DISTINCT FROM {constant()}", f"{column} IN ({constant()}, NULL)",
        f"{column} NOT IN ({constant()}, NULL)", f"{column} <> ALL (ARRAY[{constant()}, {constant()}])", f"{column} >= ALL (ARRAY[{constant()}, {constant()}])",
        f"{column} < ANY (ARRAY[{constant()}, {constant()}])", f"{column}::text LIKE '{CHANCE.choice('a2b15')}%'", f"{column}::text NOT LIKE '{CHANCE.choice('a2b15')}%'",
        f"nullif({column}, {constant()}) IS NULL", f"{column} = (SELECT {constant()})", f"{column} = NULL", f"{column} = {constant()} IS TRUE",
        "true", "false",
    ])  # fmt: skip


SHAPES = [
    "SELECT * FROM t WHERE {}", "SELECT count(*) FROM t WHERE {}", "SELECT 1 FROM other o JOIN t ON o.n = t.v_ AND {}",
    "SELECT 1 FROM t LEFT JOIN other o ON o.n = 1 WHERE {}", "SELECT 1 FROM other o LEFT JOIN t ON o.n = 1 WHERE {}",
    "SELECT 1 FROM t FULL JOIN other o ON o.n = 1 WHERE {}", "WITH c AS (SELECT * FROM t WHERE {}) SELECT * FROM c",
    "SELECT 1 FROM t WHERE {} UNION ALL SELECT 1 FROM t WHERE false", "SELECT * FROM other WHERE EXISTS (SELECT FROM t WHERE {})",
    "DELETE FROM t WHERE {}", "SELECT * FROM (SELECT * FROM t) s WHERE {}",
    "WITH c AS (SELECT * FROM t) SELECT * FROM c WHERE {}", "WITH c AS MATERIALIZED (SELECT * FROM t) SELECT * FROM c WHERE {}",
    "WITH c AS (SELECT * FROM t) SELECT * FROM c JOIN c d USING (v_) WHERE c.v_ = 1", "SELECT * FROM (SELECT * FROM t LIMIT 9) s WHERE {}",
    "SELECT * FROM (SELECT k, count(*) FROM t GROUP BY k) s WHERE k = 1 OR k IS NULL", "SELECT k FROM t GROUP BY k HAVING k IS NOT NULL AND count(*) > 1",
    "SELECT * FROM (SELECT k, v_, row_number() OVER (PARTITION BY k) n FROM t) s WHERE k IS NULL", "SELECT * FROM (SELECT DISTINCT ON (k) * FROM t ORDER BY k) s WHERE {}",
    "SELECT * FROM (SELECT k AS x, v_ FROM t UNION ALL SELECT k, v_ FROM t WHERE {}) s WHERE x IS NOT NULL",
    "SELECT * FROM (SELECT v_ AS k FROM t) s WHERE k = 1", "SELECT * FROM other o LEFT JOIN (SELECT * FROM t WHERE {}) s ON s.v_ = o.n WHERE s.k IS NULL",
    "UPDATE t SET v_ = 1 FROM other o WHERE o.n = t.v_ AND {}", "SELECT 1 FROM t, other o WHERE {}", "SELECT 1 FROM other o LEFT JOIN t ON {} WHERE t.v_ = 3",
    "SELECT 1 FROM other o LEFT JOIN t ON {} RIGHT JOIN other p ON p.n = o.n", "SELECT 1 FROM other o RIGHT JOIN t ON o.n = 1 AND {} WHERE o.n IS NULL",
    "SELECT 1 FROM t a JOIN t b ON a.k = b.k WHERE a.v_ = 1", "SELECT 1 FROM (SELECT * FROM v) w WHERE {}", "SELECT * FROM v WHERE {}",
    "SELECT (SELECT count(*) FROM t WHERE {}) FROM other", "SELECT * FROM other o, LATERAL (SELECT * FROM t WHERE t.v_ = o.n AND ({})) l",
    "SELECT * FROM other o WHERE o.n IN (SELECT v_ FROM t WHERE {})", "SELECT * FROM (SELECT t.* FROM t JOIN other o ON o.n = t.v_) s WHERE {}",
]  # fmt: skip
ROUNDS = 90


class PredictingTest(DatabaseTest):
    def predictor(self):
        """For the table t, with the catalogue's tree and columns, in the session's zone."""
        zone = catalogue.time_zone(self.connection)
        tree = catalogue.tree(self.connection, Name("public", "t"))
        schema = predicting.schema(self.connection, [Name(None, "t"), Name(None, "other"), Name(None, "v")])
        return Predictor(tree, schema), Surroundings(zone, catalogue.moment(self.connection))


class PredictionTest(PredictingTest):
    wider = []

    def test_never_fewer_than_the_server_and_mostly_the_same(self):
        self.sql("CREATE TABLE other (n int); SET timezone = 'Europe/Berlin'")
        compared = equal = 0
        for what, (columns, by, bounds, key, constants) in LAYOUTS.items():
            self.sql(f"DROP TABLE IF EXISTS t CASCADE; CREATE TABLE t ({columns}, v_ int) PARTITION BY {by}")
            for number, bound in enumerate(bounds):
                self.sql(
                    f"CREATE TABLE t_{number} PARTITION OF t {bound if bound == 'DEFAULT' else 'FOR VALUES ' + bound}"
                )
            self.sql("CREATE OR REPLACE VIEW v AS SELECT * FROM t")
            predictor, around = self.predictor()
            for _ in range(ROUNDS):
                shape = CHANCE.choice(SHAPES[:1] * 8 + SHAPES)
                qualified = (
                    [f"t.{column}" for column in key]
                    if "other o" in shape and "FROM t WHERE {" not in shape and "s WHERE" not in shape
                    else key
                )
                sql = shape.format(condition(qualified, constants))
                try:
                    reading = plan(self.connection, Query(sql), 5_000)
                except Exception:
                    continue  # a comparison of types that the server refuses
                planned = {scan.relation.removeprefix("public.") for scan in reading.scans} - {"other"}
                found = predictor.touched(sql, around)
                predicted = {leaf.spelling for leaf in predictor.tree.leaves} if found is None else found.started
                with self.subTest(what, sql=sql):
                    self.assertEqual(set(), planned - predicted)
                compared += 1
                equal += planned == predicted
                if planned != predicted:
                    self.wider.append(f"{what}: {sql}  {sorted(planned)} {sorted(predicted)}")
        self.assertGreater(compared, 500)
        self.assertGreater(equal / compared, 0.93, f"{equal} of {compared}")


class TrapsTest(PredictingTest):
    def test_statements_that_look_as_if_they_pruned(self):
        self.sql(
            "CREATE TABLE t (k int, v int) PARTITION BY LIST (k); CREATE TABLE t_1 PARTITION OF t FOR VALUES IN (1);"
            "CREATE TABLE t_2 PARTITION OF t FOR VALUES IN (2); CREATE TABLE t_n PARTITION OF t FOR VALUES IN (NULL)"
        )
        predictor, around = self.predictor()
        for sql, expected in [
            ("SELECT 1 FROM t AS x (v, k) WHERE k = 1", 3),  # k is the second column here
            ("SELECT 1 FROM t AS o WHERE EXISTS (SELECT FROM t WHERE k = o.k)", 3),
            ("SELECT 1 FROM (VALUES (1)) u (k) LEFT JOIN t ON true WHERE t.k IS NULL", 3),
            ("WITH t AS (SELECT * FROM t) SELECT * FROM t WHERE k = 1", 1),
            ("SELECT 1 FROM t WHERE k = 1 OR v = 1", 3),
            ("SELECT 1 FROM t WHERE NOT k = 1", 1),
            ("SELECT 1 FROM t a JOIN t b ON a.k = 1 AND b.k = 2", 2),
            ("SELECT 1 FROM t WHERE k + 0 = 1", 3),
            ("MERGE INTO t USING (VALUES (1)) s (n) ON t.k = 1 WHEN MATCHED THEN DELETE", 1),
            ("SELECT 1 FROM t WHERE k NOT BETWEEN 1 AND 1", 1),
            ("UPDATE t SET v = 1 WHERE k = 2", 1),
            ("SELECT 1 FROM t WHERE k IS NULL", 1),
            ("SELECT 1 FROM t WHERE k <> 1", 1),
            ("TABLE t", 3),
            ("SELECT 1 FROM public.t WHERE public.t.k = 1", 1),
            ("SELECT 1 FROM T WHERE K = 1", 1),
        ]:
            with self.subTest(sql):
                touched = predictor.touched(sql, around)
                found = None if touched is None else touched.started
                planned = {
                    scan.relation for scan in plan(self.connection, Query(sql), 5_000).scans if ".t" in scan.relation
                }
                self.assertLessEqual(len(planned), len(found) if found is not None else 3)
                self.assertEqual(expected, None if found is None else len(found))


for each in binaries()[1:]:
    globals()[f"PredictionOn{each.version}Test"] = type(
        f"PredictionOn{each.version}Test", (PredictionTest,), {"version": each.version}
    )


STATEMENTS = [
    # Joins: equal columns carry a constant, ranges they do not.
    "SELECT 1 FROM t JOIN o ON o.n = t.k WHERE o.n = 1",
    "SELECT 1 FROM t JOIN o ON o.n = t.k AND o.n = 2",
    "SELECT 1 FROM o JOIN t USING (k) WHERE o.k = 3",
    "SELECT 1 FROM t, o WHERE t.k = o.n AND o.n = 1 AND o.k > 0",
    "SELECT 1 FROM t JOIN o ON o.n = t.k WHERE o.n > 2",
    "SELECT 1 FROM t JOIN o ON o.n = t.k WHERE o.n IN (1, 2)",
    "SELECT 1 FROM t a JOIN t b ON a.k = b.k WHERE a.k = 1",
    "SELECT 1 FROM t a JOIN t b ON a.k = b.v WHERE a.k = 1",
    "SELECT 1 FROM t JOIN o ON o.n = t.v WHERE o.n = 1 AND t.k = 2",
    # Outer joins.
    "SELECT 1 FROM t LEFT JOIN o ON o.n = t.k AND t.k = 1",
    "SELECT 1 FROM t LEFT JOIN o ON o.n = t.k WHERE t.k = 1",
    "SELECT 1 FROM o LEFT JOIN t ON t.k = o.n AND t.k = 1",
    "SELECT 1 FROM o LEFT JOIN t ON t.k = o.n WHERE o.n = 1",
    "SELECT 1 FROM o LEFT JOIN t ON t.k = o.n WHERE t.k = 1",
    "SELECT 1 FROM o LEFT JOIN t ON t.k = o.n WHERE t.k IS NULL",
    "SELECT 1 FROM o LEFT JOIN t ON t.k = 2 WHERE t.v = 7",
    "SELECT 1 FROM t RIGHT JOIN o ON o.n = t.k AND t.k = 1",
    "SELECT 1 FROM t RIGHT JOIN o ON true WHERE o.n = 1",
    "SELECT 1 FROM t FULL JOIN o ON o.n = t.k WHERE t.k = 1 AND o.n = 1",
    "SELECT 1 FROM o LEFT JOIN (t JOIN o p ON p.n = t.v) ON t.k = o.n WHERE t.k = 1",
    # Queries within queries.
    "SELECT * FROM (SELECT k AS x, v FROM t) s WHERE x = 1",
    "SELECT * FROM (SELECT k + 0 AS x FROM t) s WHERE x = 1",
    "SELECT * FROM (SELECT k, count(*) c FROM t GROUP BY k) s WHERE k = 1 AND c > 1",
    "SELECT * FROM (SELECT v, count(*) c FROM t GROUP BY v) s WHERE v = 1",
    "SELECT * FROM (SELECT k, row_number() OVER (PARTITION BY k) r FROM t) s WHERE k = 1",
    "SELECT * FROM (SELECT k, row_number() OVER (PARTITION BY v) r FROM t) s WHERE k = 1",
    "SELECT * FROM (SELECT DISTINCT k, v FROM t) s WHERE k = 1",
    "SELECT * FROM (SELECT * FROM t ORDER BY v LIMIT 3) s WHERE k = 1",
    "SELECT * FROM (SELECT * FROM t OFFSET 0) s WHERE k = 1",
    "SELECT * FROM (SELECT k FROM t UNION ALL SELECT n FROM o) s WHERE k = 1",
    "SELECT * FROM (SELECT k FROM t UNION SELECT v FROM t) s WHERE k = 1",
    "SELECT * FROM (SELECT k FROM t EXCEPT SELECT n FROM o) s WHERE k = 1",
    "SELECT * FROM (SELECT * FROM t) a (x, y) WHERE x = 2",
    "SELECT * FROM (SELECT t.*, o.n FROM t JOIN o ON o.n = t.v) s WHERE k = 3",
    "SELECT k FROM t GROUP BY k HAVING k = 1",
    "SELECT k, count(*) FROM t GROUP BY 1 HAVING count(*) > 0 AND k IN (1, 3)",
    "SELECT v FROM t GROUP BY v HAVING max(k) = 1",
    # Queries that are named.
    "WITH c AS (SELECT * FROM t) SELECT * FROM c WHERE k = 1",
    "WITH c AS (SELECT * FROM t) SELECT * FROM c a JOIN c b ON a.k = b.k WHERE a.k = 1",
    "WITH c AS MATERIALIZED (SELECT * FROM t) SELECT * FROM c WHERE k = 1",
    "WITH c AS NOT MATERIALIZED (SELECT * FROM t) SELECT * FROM c a, c b WHERE a.k = 1 AND b.k = 2",
    "WITH c (x, y) AS (SELECT k, v FROM t) SELECT * FROM c WHERE x = 1",
    "WITH c AS (SELECT * FROM t), d AS (SELECT * FROM c WHERE k < 3) SELECT * FROM d WHERE k > 1",
    "WITH RECURSIVE c AS (SELECT k FROM t WHERE k = 1 UNION ALL SELECT k + 1 FROM c WHERE k < 3) SELECT * FROM c",
    "WITH unused AS (SELECT * FROM t) SELECT 1",
    "SELECT * FROM v WHERE k = 1",
    "SELECT * FROM v a JOIN o ON o.n = a.k WHERE o.n = 2",
    # What only the run supplies.
    "SELECT * FROM t WHERE k = (SELECT max(n) FROM o)",
    "SELECT * FROM t WHERE k IN (SELECT n FROM o)",
    "SELECT * FROM t WHERE EXISTS (SELECT FROM o WHERE o.n = t.k)",
    "SELECT * FROM o WHERE EXISTS (SELECT FROM t WHERE t.k = o.n AND t.k < 3)",
    "SELECT * FROM o, LATERAL (SELECT * FROM t WHERE t.k = o.n) l WHERE o.n = 1",
    "SELECT (SELECT v FROM t WHERE t.k = o.n LIMIT 1) FROM o",
    # Changes.
    "UPDATE t SET v = 5 WHERE k = 1",
    "UPDATE t SET v = o.k FROM o WHERE o.n = t.k AND o.n = 2",
    "DELETE FROM t USING o WHERE t.k = o.n AND o.n = 3",
    "DELETE FROM t a WHERE a.k BETWEEN 1 AND 2",
    "INSERT INTO o SELECT k, v FROM t WHERE k = 2",
    "WITH gone AS (DELETE FROM t WHERE k = 1 RETURNING *) SELECT * FROM gone",
    # Rows, nothing, and everything.
    "SELECT * FROM t WHERE (k, v) = (1, 2)",
    "SELECT * FROM t WHERE (k, v) IN ((1, 2), (3, 4))",
    "SELECT * FROM t WHERE (k, v) > (1, 2)",
    "SELECT * FROM t WHERE k = 1 AND k = 2",
    "SELECT * FROM t WHERE v = 1 AND v = 2",
    "SELECT * FROM t WHERE v > 5 AND v < 3",
    "SELECT * FROM t WHERE k = NULL",
    "SELECT * FROM t WHERE NOT (k <> 1)",
    "SELECT * FROM t WHERE NOT (k = 1 OR k = 2)",
    "SELECT * FROM t WHERE k BETWEEN SYMMETRIC 2 AND 1",
    "SELECT * FROM t WHERE k = ANY ('{1,3}')",
    "SELECT * FROM t WHERE k = ANY (ARRAY[1, 2])",
    "SELECT * FROM t WHERE k <> ALL (ARRAY[1, 2])",
    "SELECT * FROM t TABLESAMPLE SYSTEM (10) WHERE k = 1",
    "SELECT * FROM t WHERE k = '2'",
    "SELECT * FROM t WHERE k = 2::bigint",
    "SELECT * FROM t WHERE k = 2.0",
    "SELECT * FROM ONLY t WHERE k = 1",
    "SELECT * FROM t a JOIN t b ON b.k = a.k WHERE b.k = ANY (ARRAY[1, 2])",
    "SELECT * FROM t, o b RIGHT JOIN o c ON c.k = b.k AND false",
    "SELECT * FROM (t JOIN o ON false) FULL JOIN t c ON c.k = t.k",
    "SELECT * FROM t LEFT JOIN t b ON b.k = t.k AND b.v = 2 AND b.v = 3 WHERE b.v > ALL (SELECT n FROM other)",
    "SELECT * FROM (SELECT DISTINCT * FROM t) a WHERE a.v = 2 AND a.v = 3",
    "SELECT k FROM (SELECT k, max(v) v FROM t GROUP BY k) a WHERE a.k = 3 GROUP BY k HAVING k = NULL",
    "SELECT * FROM o CROSS JOIN t b WHERE o.n BETWEEN 5 AND 1",
    "SELECT * FROM t WHERE (k > 5 OR k BETWEEN 4 AND 2) AND k IN (1, 1)",
    "SELECT * FROM t WHERE k IS NULL AND (k <> 1 OR k < v)",
    "SELECT * FROM (SELECT * FROM t LIMIT 9) s WHERE false",
    "SELECT * FROM t WHERE k <> ALL (ARRAY[1, 2])",
    "SELECT * FROM t WHERE k IN (NULL, NULL)",
    "SELECT * FROM t WHERE k = abs(-2) OR k = '3'::text::int",
]
WIDER = 8  # of the statements above, may be predicted wider than the server plans


class StatementsTest(PredictingTest):
    """Every way to name a table, against the plan: never narrower, and nearly always the same."""

    def test_each_statement_against_the_plan(self):
        self.sql(
            "CREATE TABLE t (k int, v int) PARTITION BY LIST (k); CREATE TABLE t_1 PARTITION OF t FOR VALUES IN (1);"
            "CREATE TABLE t_2 PARTITION OF t FOR VALUES IN (2); CREATE TABLE t_3 PARTITION OF t FOR VALUES IN (3, NULL);"
            "CREATE TABLE t_rest PARTITION OF t DEFAULT; CREATE TABLE other (n int); CREATE TABLE o (n int, k int);"
            "CREATE VIEW v AS SELECT k, v FROM t WHERE v >= 0"
        )
        tree = catalogue.tree(self.connection, Name("public", "t"))
        names = [Name(None, each) for each in ("t", "o", "v")]
        predictor = Predictor(tree, predicting.schema(self.connection, names))
        around = Surroundings(catalogue.time_zone(self.connection), catalogue.moment(self.connection))
        wider = []
        for sql in STATEMENTS:
            with self.subTest(sql):
                scans = plan(self.connection, Query(sql), 5_000).scans
                planned = {scan.relation.removeprefix("public.") for scan in scans} - {"o", "other"}
                found = predictor.touched(sql, around)
                predicted = set() if found is None else set(found.started)
                self.assertEqual(set(), planned - predicted)
                if planned != predicted:
                    wider.append(sql)
        self.assertLessEqual(len(wider), WIDER, wider)


RIVALS = [
    "SELECT * FROM o a RIGHT JOIN w b ON b.k = a.d AND a.d = '{0}'::timestamptz WHERE b.k = '{1}'",
    "SELECT * FROM o a CROSS JOIN t b WHERE b.k = a.d AND a.d = '{0}' AND b.k = '{1}'",
    "SELECT DISTINCT a.k FROM w a JOIN o b ON b.k = a.k WHERE a.k < '{0}'::timestamp AND b.k = '{1}'",
    "SELECT * FROM (SELECT k, max(v) v FROM t WHERE k >= localtimestamp GROUP BY k) a, o b WHERE b.k = a.k AND b.k = '{1}'",
    "SELECT * FROM (SELECT DISTINCT * FROM t WHERE k = current_date - 31) a WHERE a.k = '{0}'",
    "SELECT * FROM t a WHERE a.k IN ('{0}') AND a.k = now() AND EXISTS (SELECT FROM o WHERE o.k = a.k AND o.k = '{1}'::date)",
    "SELECT * FROM (SELECT * FROM t WHERE k = now()) a (x, y) JOIN o b ON b.k = a.x WHERE b.k = '{1}'",
    "SELECT * FROM t JOIN o USING (k) WHERE k = current_date AND k = '{0}'",
]


class RivalsTest(PredictingTest):
    """Constants and clock values that exclude each other, on columns that may be equal: never narrower."""

    def test_what_is_left_open_is_predicted_wide(self):
        self.sql("SET timezone = 'Europe/Berlin'; CREATE TABLE o (k date, d date, v int)")
        for type_name in ("date", "timestamptz", "timestamp"):
            self.sql(
                f"DROP TABLE IF EXISTS t CASCADE; CREATE TABLE t (k {type_name}, v int) PARTITION BY RANGE (k);"
                "CREATE VIEW w AS SELECT * FROM t WHERE v > -1; CREATE TABLE t_rest PARTITION OF t DEFAULT"
            )
            for month in range(6):
                first = f"date_trunc('month', current_date) + interval '{month - 3} month'"
                bounds = [self.value(f"SELECT ({first} + interval '{later} month')::date") for later in (0, 1)]
                self.sql(f"CREATE TABLE t_{month} PARTITION OF t FOR VALUES FROM ('{bounds[0]}') TO ('{bounds[1]}')")
            names = [Name(None, each) for each in ("t", "o", "w")]
            schema = predicting.schema(self.connection, names)
            predictor = Predictor(catalogue.tree(self.connection, Name("public", "t")), schema)
            around = Surroundings(catalogue.time_zone(self.connection), catalogue.moment(self.connection))
            for sql in RIVALS:
                days = [self.value(f"SELECT (current_date + {CHANCE.randrange(-60, 60)})::text") for _ in range(2)]
                with self.subTest(sql, key=type_name, days=days):
                    scans = plan(self.connection, Query(sql.format(*days)), 5_000).scans
                    planned = {scan.relation.removeprefix("public.") for scan in scans} - {"o"}
                    self.assertEqual(set(), planned - predictor.touched(sql.format(*days), around).started)


for each in binaries()[1:]:
    globals()[f"StatementsOn{each.version}Test"] = type(
        f"StatementsOn{each.version}Test", (StatementsTest,), {"version": each.version}
    )
