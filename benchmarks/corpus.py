"""A corpus of statements on layouts of every kind: Slabrow's prediction and its reading of plans, against the server.

    python -m benchmarks.corpus [--verbose] [VERSION …]

For each statement the server is asked twice: for its plan, and to execute it while it counts the scans of every leaf in
its own statistics. Right is: no leaf in the plan that was not predicted, and exactly the scanned leaves read as executed.
"""

import argparse
import sys
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

import psycopg

from benchmarks.classes import BEFORE
from benchmarks.classes import LAYOUTS as MORE
from benchmarks.layouts import Layout, months, ranges
from slabrow.core.pruning.predict import Predictor
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.ask import predicting
from slabrow.servers.postgresql.ask.plans import read_plan
from slabrow.servers.postgresql.ask.side_effects import PostgresFence
from slabrow.servers.postgresql.connection import Connection, connect
from slabrow.servers.postgresql.private.server import find_binaries, start
from slabrow.servers.postgresql.read import catalogue
from slabrow.servers.postgresql.session import PostgresSession
from slabrow.work.proving.answered import ask_ahead, new_answers

LAYOUTS = (
    Layout("range of dates", "k date, v int", "RANGE (k)", months("date"), ("k",), ("'2026-01-15'", "'2026-03-01'", "'2026-04-20'", "'2030-01-01'"),
           extra=("{k} = '2026-02-01'::timestamptz", "{k} >= timestamp '2026-03-05 12:00'", "{k} < now()::date", "{k} = 'today'", "{k} > date '2026-02-28' + 3",
                  "{k} BETWEEN date '2026-02-01' - interval '1 month' AND '2026-03-15'", "date_trunc('month', {k}) = '2026-02-01'", "{k} + 1 = '2026-02-03'",
                  "{k} = make_date(2026, 2, 7)", "{k} = '2026-02-07'::text::date", "extract(year FROM {k}) = 2026", "{k}::text LIKE '2026-02%'", "{k} > '-infinity'", "{k} = 'infinity'")),
    Layout("range of timestamps with a catch-all", "k timestamp, v int", "RANGE (k)", (*months("timestamp"), "CREATE TABLE t_rest PARTITION OF t DEFAULT"), ("k",),
           ("'2026-01-15 10:00'", "'2026-03-01'", "'2026-04-20 23:59:59'", "'2030-01-01'"),
           extra=("{k} = date '2026-02-01'", "{k} >= '2026-02-01'::date AND {k} < '2026-02-01'::date + 28", "{k} > now()", "{k} = timestamp '2026-02-01' + interval '1 month'",
                  "{k} >= localtimestamp - interval '90 days'", "{k}::date = '2026-02-05'", "{k} < timestamptz '2026-02-05 12:00+00'", "{k} = '2026-02-05 12:00'::timestamp(0)")),
    Layout("range of instants", "k timestamptz, v int", "RANGE (k)", months("timestamptz"), ("k",), ("'2026-01-15 10:00+02'", "'2026-03-01'", "'2026-04-20 23:59:59.5'", "'2030-01-01'"),
           extra=("{k} = date '2026-02-01'", "{k} >= '2026-02-01'::timestamp", "{k} > now() - interval '1 day'", "{k} > current_timestamp", "{k} BETWEEN '2026-02-01' AND now()",
                  "{k} = timestamptz '2026-02-01' + interval '1 month'", "({k} AT TIME ZONE 'Asia/Tokyo')::date = '2026-02-05'", "{k} >= '2026-02-01' AT TIME ZONE 'UTC'",
                  "{k} > statement_timestamp()", "{k} > clock_timestamp()", "date_trunc('day', {k}) = '2026-02-05'", "{k} >= date_trunc('month', now())", "{k} > to_timestamp(1770000000)")),
    Layout("range of numbers with open ends", "k bigint, v int", "RANGE (k)", ranges("t", "MINVALUE", "0", "100", "200", "MAXVALUE"), ("k",), ("50", "100", "150", "99999"),
           extra=("{k} = 50.0", "{k} = '50'", "{k} = 50::smallint", "{k} = 50::numeric", "{k} + 1 = 51", "{k} = abs(-50)", "{k} = 25 * 2", "{k} % 100 = 5", "-{k} = -50", "{k} = 5000000000",
                  "{k} = 99999999999999999999", "{k} < 1e2", "{k} = (SELECT 50)", "{k} = random()::int", "{k} IS DISTINCT FROM 50", "{k} IS NOT DISTINCT FROM 50", "{k} > -1", "{k} = v")),
    Layout("range of numerics with a gap", "k numeric, v int", "RANGE (k)", (*ranges("t", "0", "1.5", "3"), "CREATE TABLE t_9 PARTITION OF t FOR VALUES FROM (9) TO (12.25)"), ("k",),
           ("1", "1.5", "9.75", "5"), extra=("{k} = 1::int", "{k} = 1::float8", "{k} = '2.5'", "{k} >= 3 AND {k} < 9", "{k} = 1.50")),
    Layout("range of two columns", "k int, l int, v int", "RANGE (k, l)", ranges("t", "0, 0", "5, MINVALUE", "5, 7", "9, 9", "20, 0"), ("k", "l"), ("3", "5", "8", "99"), ("6", "8"),
           extra=("{k} = 5 AND {l} < 7", "{k} = 5 AND {l} >= 7", "{k} >= 5 AND {l} = 7", "({k}, {l}) = (5, 7)", "({k}, {l}) > (5, 7)", "({k}, {l}) IN ((5, 7), (1, 1))", "{l} = 3", "{k} IN (5, 8) AND {l} = 7",
                  "{k} = 5 AND {l} IN (6, 8)", "{k} = 5 AND ({l} < 3 OR {l} > 8)", "{k} BETWEEN 5 AND 8 AND {l} BETWEEN 1 AND 2", "{k} = 9 AND {l} = 9", "{k} = 5 AND {l} IS NULL")),
    Layout("list of texts with NULL", "k text, v int", "LIST (k)", ("CREATE TABLE t_a PARTITION OF t FOR VALUES IN ('a', 'b')", "CREATE TABLE t_c PARTITION OF t FOR VALUES IN ('c', NULL)",
                                                                   "CREATE TABLE t_d PARTITION OF t FOR VALUES IN ('d')"), ("k",), ("'a'", "'c'", "'d'", "'zz'"),
           extra=("{k} LIKE 'a%'", "{k} = lower('A')", "{k} = 'a' || ''", "{k} = 'a'::varchar", "{k} = 'a'::char(1)", "{k} = 'a'::name", "{k} COLLATE \"C\" = 'a'", "lower({k}) = 'a'", "{k} = ''",
                  "{k} = ANY ('{{a,d}}')", "{k} <> ALL (ARRAY['a','b'])", "{k} IN ('a', NULL)", "{k} NOT IN ('a', NULL)", "{k} ~ '^a'", "{k} = concat('a', '')")),
    Layout("list of numbers with a catch-all", "k int, v int", "LIST (k)", ("CREATE TABLE t_1 PARTITION OF t FOR VALUES IN (1, 2)", "CREATE TABLE t_3 PARTITION OF t FOR VALUES IN (3)",
                                                                           "CREATE TABLE t_5 PARTITION OF t FOR VALUES IN (5, 6)", "CREATE TABLE t_rest PARTITION OF t DEFAULT"), ("k",), ("2", "3", "5", "77"),
           extra=("{k} <> 3", "{k} NOT IN (3, 5, 6)", "{k} > 2 AND {k} < 5", "{k} = 3.0", "NOT ({k} = 3 OR {k} IS NULL)", "{k} <> 1 AND {k} <> 2", "{k} >= 1 AND {k} <= 3 AND {k} <> 2", "{k} = 3::bigint", "{k} IN (3) OR {k} > 5")),
    Layout("list of truth values", "k boolean, v int", "LIST (k)", ("CREATE TABLE t_t PARTITION OF t FOR VALUES IN (true)", "CREATE TABLE t_f PARTITION OF t FOR VALUES IN (false)",
                                                                   "CREATE TABLE t_rest PARTITION OF t DEFAULT"), ("k",), ("false", "true", "true", "NULL"),
           extra=("{k}", "NOT {k}", "{k} IS TRUE", "{k} IS NOT TRUE", "{k} IS FALSE", "{k} IS NOT FALSE", "{k} IS UNKNOWN", "{k} = (1 = 1)", "{k} AND v = 1", "NOT {k} OR v = 1")),
    Layout("hash of a number", "k int, v int", "HASH (k)", tuple(f"CREATE TABLE t_{r} PARTITION OF t FOR VALUES WITH (MODULUS 4, REMAINDER {r})" for r in range(4)), ("k",), ("1", "2", "3", "77"),
           extra=("{k} = '5'", "{k} = 5::bigint", "{k} = 5.0", "{k} = 2 + 3", "{k} IN (SELECT v FROM o)", "{k} = -1")),
    Layout("hash of two columns", "k bigint, l text, v int", "HASH (k, l)", ("CREATE TABLE t_0 PARTITION OF t FOR VALUES WITH (MODULUS 2, REMAINDER 0)", "CREATE TABLE t_1 PARTITION OF t FOR VALUES WITH (MODULUS 4, REMAINDER 1)",
                                                                            "CREATE TABLE t_3 PARTITION OF t FOR VALUES WITH (MODULUS 4, REMAINDER 3)"), ("k", "l"), ("1", "2", "3", "77"), ("'x'", "'y'"),
           extra=("({k}, {l}) = (1, 'x')", "({k}, {l}) IN ((1, 'x'), (2, 'y'))", "({k} = 1 AND {l} = 'x') OR ({k} = 1 AND {l} = 'y')", "({k} = 1 AND {l} = 'x') OR ({k} = 2 AND {l} = 'y')", "{k} = 1 AND {l} IN ('x', 'y')",
                  "{k} = 1 AND {l} IS NULL", "{k} IS NULL AND {l} IS NULL", "{l} = 'x'")),
    Layout("months, then lists", "k date, l text, v int", "RANGE (k)", ("CREATE TABLE t_1 PARTITION OF t FOR VALUES FROM ('2026-01-01') TO ('2026-02-01') PARTITION BY LIST (l)", "CREATE TABLE t_1a PARTITION OF t_1 FOR VALUES IN ('x')",
                                                                       "CREATE TABLE t_1b PARTITION OF t_1 DEFAULT", "CREATE TABLE t_2 PARTITION OF t FOR VALUES FROM ('2026-02-01') TO ('2026-03-01') PARTITION BY LIST (l)",
                                                                       "CREATE TABLE t_2a PARTITION OF t_2 FOR VALUES IN ('x', 'y')", "CREATE TABLE t_3 PARTITION OF t FOR VALUES FROM ('2026-03-01') TO ('2026-05-01')"),
           ("k", "l"), ("'2026-01-15'", "'2026-02-01'", "'2026-04-20'", "'2030-01-01'"), ("'x'", "'y'"), extra=("{l} = 'z'", "{l} IS NULL", "{k} < '2026-02-01' AND {l} <> 'x'", "{k} = '2026-01-05' OR {l} = 'y'")),
    Layout("hash, then ranges", "k int, l int, v int", "HASH (k)", tuple(each for r in range(3) for each in (
        f"CREATE TABLE t_{r} PARTITION OF t FOR VALUES WITH (MODULUS 3, REMAINDER {r}) PARTITION BY RANGE (l)", f"CREATE TABLE t_{r}a PARTITION OF t_{r} FOR VALUES FROM (MINVALUE) TO (2)",
        f"CREATE TABLE t_{r}b PARTITION OF t_{r} FOR VALUES FROM (2) TO (MAXVALUE)")), ("k", "l"), ("1", "2", "3", "77"), extra=("{l} > 2", "{l} < 2", "{k} = 1 AND {l} = 5", "{k} IN (1, 2) AND {l} < 0")),
)  # fmt: skip

CONDITIONS = (
    "{k} = {a}", "{k} = {z}", "{k} <> {a}", "{k} > {b}", "{k} >= {b}", "{k} < {b}", "{k} <= {b}", "{b} > {k}", "{k} BETWEEN {a} AND {b}", "{k} NOT BETWEEN {a} AND {b}", "{k} IN ({a}, {c})", "{k} NOT IN ({a}, {c})",
    "{k} = ANY (ARRAY[{a}, {b}])", "{k} IS NULL", "{k} IS NOT NULL", "{k} = {a} OR {k} = {c}", "{k} = {a} AND {k} = {c}", "{k} > {a} AND {k} < {c}", "{k} < {a} OR {k} > {c}", "NOT ({k} = {a})", "NOT ({k} > {a} AND {k} < {c})",
    "{k} = {a} OR v = 1", "{k} = {a} AND v = 1", "({k} = {a} OR {k} IS NULL) AND v IN (1, 2)", "{k} = NULL", "{k} >= {a} AND {k} <= {a}", "{k} > {c} AND {k} < {a}", "coalesce({k}, {a}) = {a}", "{k} = {a} AND false", "true",
    "{k} = {a} AND ({k} = {b} OR {k} = {a})", "({k} > {a} OR v = 3) AND {k} < {c}", "{k} = (SELECT min(k) FROM o)", "{k} IN (SELECT k FROM o)", "NOT EXISTS (SELECT FROM o WHERE o.v = t.v AND o.v > 5) AND {k} = {b}", "CASE WHEN {k} = {a} THEN true ELSE false END",
)  # fmt: skip
SECOND = ("{k} = {a} AND {l} = {y}", "{k} > {a} AND {l} = {y}", "{l} = {y}", "{k} = {a} AND {l} > {y}", "{l} IN ({x}, {y}) AND {k} = {b}", "{k} = {a} OR {l} = {x}", "({k}, {l}) = ({a}, {x})", "{k} IN ({a}, {b}) AND {l} = {x}")  # fmt: skip
SHAPES = (
    "SELECT count(*) FROM t JOIN o ON o.k = t.k WHERE o.k = {a}", "SELECT count(*) FROM o LEFT JOIN t ON t.k = o.k AND t.k = {a}", "SELECT count(*) FROM t LEFT JOIN o ON o.k = t.k WHERE t.k = {a}", "SELECT count(*) FROM t LEFT JOIN o ON o.k = t.k AND t.k = {a}",
    "WITH c AS (SELECT * FROM t) SELECT count(*) FROM c WHERE k = {a}", "WITH c AS MATERIALIZED (SELECT * FROM t) SELECT count(*) FROM c WHERE k = {a}", "WITH c AS (SELECT * FROM t WHERE k = {a}) SELECT count(*) FROM c a, c b",
    "SELECT count(*) FROM (SELECT * FROM t WHERE v >= 0) s WHERE k = {a}", "SELECT count(*) FROM (SELECT k, count(*) n FROM t GROUP BY k) s WHERE k = {a}", "SELECT k FROM t GROUP BY k HAVING k = {a}", "SELECT count(*) FROM (SELECT DISTINCT k FROM t) s WHERE k = {a}",
    "SELECT count(*) FROM (SELECT * FROM t ORDER BY v LIMIT 5) s WHERE k = {a}", "SELECT count(*) FROM (SELECT * FROM t UNION ALL SELECT * FROM t) s WHERE k = {a}", "SELECT k FROM t WHERE k = {a} UNION SELECT k FROM t WHERE k = {c}",
    "SELECT k FROM t WHERE k = {a} EXCEPT SELECT k FROM t WHERE k = {c}", "SELECT count(*) FROM w WHERE k = {a}", "SELECT count(*) FROM w JOIN o USING (k) WHERE o.v = 1", "SELECT count(*) FROM t a JOIN t b USING (k) WHERE a.k = {a}", "SELECT (SELECT count(*) FROM t WHERE k = {a})",
    "SELECT count(*) FROM o, LATERAL (SELECT * FROM t WHERE t.k = o.k) l", "SELECT count(*) FROM o WHERE EXISTS (SELECT FROM t WHERE t.k = o.k AND t.k = {a})", "SELECT count(*) FROM o WHERE k IN (SELECT k FROM t WHERE k = {a})", "UPDATE t SET v = 9 WHERE k = {a}",
    "DELETE FROM t WHERE k = {a}", "DELETE FROM t USING o WHERE o.k = t.k AND o.k = {a}", "UPDATE t SET v = o.v FROM o WHERE o.k = t.k AND t.k = {a}", "INSERT INTO o (k) SELECT k FROM t WHERE k = {a}", "SELECT k, row_number() OVER (PARTITION BY k) FROM t WHERE k = {a}",
    "SELECT * FROM (SELECT k, row_number() OVER (PARTITION BY k) n FROM t) s WHERE k = {a}", "SELECT * FROM (SELECT k, row_number() OVER (ORDER BY v) n FROM t) s WHERE k = {a}", "SELECT * FROM ONLY t WHERE k = {a}", "SELECT count(*) FROM t AS x WHERE x.k = {a}",
    "SELECT count(*) FROM public.t WHERE public.t.k = {a}", "SELECT count(*) FROM \"t\" WHERE \"k\" = {a}", "SELECT count(*) FROM t FULL JOIN o ON o.v = t.v WHERE t.k = {a}", "SELECT k FROM t WHERE k = {a} ORDER BY k LIMIT 1", "SELECT k FROM t WHERE k > {a} ORDER BY k DESC LIMIT 1 OFFSET 2",
    "SELECT count(*) FILTER (WHERE k = {a}) FROM t", "VALUES ((SELECT max(k) FROM t WHERE k = {a}))", "SELECT count(*) FROM t CROSS JOIN o WHERE t.k = {a}", "TABLE t", "WITH RECURSIVE r AS (SELECT 1 n UNION ALL SELECT n + 1 FROM r WHERE n < 3) SELECT count(*) FROM r, t WHERE t.k = {a}",
)  # fmt: skip


def statements(layout: Layout) -> Iterator[str]:
    """Every statement on one layout."""
    a, b, c, z = layout.values
    names = {"k": "t.k", "l": "t.l", "a": a, "b": b, "c": c, "z": z, "x": layout.second[0], "y": layout.second[1]}
    names |= {"v": "t.v", "a_typed": f"{a}::{_type_of(layout)}"}
    conditions = [*CONDITIONS, *layout.extra, *(SECOND if len(layout.key) > 1 else ())]
    for condition in conditions:
        yield f"SELECT * FROM t WHERE {condition.format(**names)}"
    for shape in (*SHAPES, *layout.shapes):
        yield shape.format(**names)


def _type_of(layout: Layout) -> str:
    return layout.columns.split(",")[0].split(" ", 1)[1].split(" COLLATE")[0]


@dataclass
class Tally:
    asked: int = 0
    equal: int = 0
    wider: int = 0
    narrower: int = 0
    misread: int = 0


def _ask(connection: Connection, sql: str) -> tuple[set[str], set[str], set[str]]:
    """The leaves of a plan, those that its execution reads by our reading, and those that the server counts scans of."""
    with connection.transaction(force_rollback=True):
        plan = read_plan(_explained(connection, f"EXPLAIN (VERBOSE, FORMAT JSON) {sql}"))
    with connection.transaction(force_rollback=True):
        before = _scans(connection)
        executed = read_plan(_explained(connection, f"EXPLAIN (ANALYZE, VERBOSE, FORMAT JSON) {sql}"))
        after = _scans(connection)
    leaves = {scan.relation.removeprefix("public.") for scan in plan.scans}
    ran = {scan.relation.removeprefix("public.") for scan in executed.scans if scan.loops}
    return leaves, ran, {name for name, scans in after.items() if scans > before.get(name, 0)}


def _scans(connection: Connection) -> dict[str, int]:
    """What this backend has counted and not yet handed over."""
    sql = "SELECT relname, coalesce(seq_scan, 0) + coalesce(idx_scan, 0) FROM pg_stat_xact_user_tables"
    return dict(connection.execute(sql).fetchall())


def _explained(connection: Connection, sql: str) -> dict[str, object]:
    row = connection.execute(sql.encode()).fetchone()
    assert row is not None
    return row[0][0]


def prepared(connection: Connection, layout: Layout) -> tuple[Predictor, Surroundings]:
    """The tables and views of a layout, made anew, and what predicts on them."""
    connection.execute("DROP TABLE IF EXISTS t, o CASCADE")
    columns = layout.columns.replace("{collation}", "other")
    connection.execute(f"CREATE TABLE t ({columns}) PARTITION BY {layout.by}".encode())
    for each in layout.partitions:
        connection.execute(each.encode())
    type_ = columns.split(",")[0].split(" ", 1)[1]
    connection.execute(f"CREATE TABLE o (k {type_}, v int)".encode())
    connection.execute("CREATE VIEW w AS SELECT * FROM t WHERE v > -1")
    connection.execute("CREATE VIEW wj AS SELECT t.k, o.k AS ok, t.v FROM t JOIN o ON o.k = t.k")
    connection.execute("CREATE VIEW wg AS SELECT k, count(*) AS n FROM t GROUP BY k")
    connection.execute("CREATE VIEW wu AS SELECT k FROM t UNION ALL SELECT k FROM o")
    second = f", l) VALUES ({{}}, {layout.second[0]})" if len(layout.key) > 1 else ") VALUES ({})"
    for value in layout.values[:3]:
        connection.execute(f"INSERT INTO t (k{second.format(value)}".encode())
        connection.execute(f"INSERT INTO o VALUES ({value}, 1)".encode())
    connection.execute("ANALYZE t, o")
    tree = catalogue.tree(connection, Name("public", "t"))
    answers = new_answers(PostgresSession(connection))
    schema = predicting.schema(connection, [Name(None, each) for each in ("t", "o", "w", "wj", "wg", "wu")])
    predictor = Predictor(tree, schema, answers=answers)
    zone = catalogue.time_zone(connection)
    assert zone is not None
    around = Surroundings(zone, catalogue.moment(connection))
    return predictor, around


def explained_plan(connection: Connection, sql: str) -> set[str]:
    """The leaves of the plan. Raises the driver's errors."""
    with connection.transaction(force_rollback=True):
        plan = read_plan(_explained(connection, f"EXPLAIN (VERBOSE, FORMAT JSON) {sql}"))
    return {scan.relation.removeprefix("public.") for scan in plan.scans}


def judge(connection: Connection, layout: Layout, tally: Tally, verbose: bool) -> Counter[str]:
    """Runs every statement on one layout. Returns those that were predicted wider."""
    wider: Counter[str] = Counter()
    predictor, around = prepared(connection, layout)
    every = {leaf.spelling for leaf in predictor.tree.leaves}
    predictor = asked_ahead(connection, predictor, [*statements(layout)], around)
    for sql in statements(layout):
        try:
            planned, executed, scanned = (leaves & every for leaves in _ask(connection, sql))
        except psycopg.Error as error:
            if verbose:
                print(f"  refused: {sql}: {error.diag.message_primary}")
            continue
        found = predictor.touched(sql, around)
        predicted = (
            every if found is None and (predictor.reads(sql) or planned) else set(found.started) if found else set()
        )
        tally.asked += 1
        tally.equal += predicted == planned
        if planned - predicted:
            tally.narrower += 1
            print(f"  NARROWER on {layout.name}: {sql}\n    {sorted(predicted)} planned {sorted(planned)}")
        elif predicted != planned:
            tally.wider += 1
            wider[sql] += 1
            if verbose:
                print(f"  wider on {layout.name}: {sql}   {len(predicted)} for {len(planned)}")
        if executed != scanned:
            tally.misread += 1
            print(f"  MISREAD on {layout.name}: {sql}\n    {sorted(executed)} scanned {sorted(scanned)}")
    return wider


def asked_ahead(connection: Connection, predictor: Predictor, asked: list[str], around: Surroundings) -> Predictor:
    """The predictor with the answers to all that these statements ask."""
    ask_ahead(PostgresSession(connection), PostgresFence(connection), [predictor], [(sql, around) for sql in asked])
    return predictor


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])  # type: ignore[union-attr]
    parser.add_argument("versions", nargs="*", type=int)
    parser.add_argument("--layout", help="only the layouts whose names hold this")
    parser.add_argument("--verbose", action="store_true")
    options = parser.parse_args()
    worst = 1.0
    faults = 0
    for binaries in {each.version: each for each in find_binaries()}.values():
        if options.versions and binaries.version not in options.versions:
            continue
        server = start(binaries, {})
        try:
            connection = connect(server.dsn)
            connection.execute("SET timezone = 'Europe/Berlin'; SET max_parallel_workers_per_gather = 0")
            total = Tally()
            for each in BEFORE:
                connection.execute(each.encode())
            for layout in (*LAYOUTS, *MORE):
                if options.layout and options.layout not in layout.name:
                    continue
                judge(connection, layout, total, options.verbose)
            print(
                f"PostgreSQL {binaries.version}: {total.asked} statements on {len(LAYOUTS) + len(MORE)} layouts; predicted equal "
                f"{total.equal} ({total.equal / total.asked:.1%}), wider {total.wider}, narrower {total.narrower}; misread {total.misread}"
            )
            worst = min(worst, total.equal / total.asked)
            faults += total.narrower + total.misread
            connection.close()
        finally:
            server.stop()
    return 0 if faults == 0 and worst >= 0.97 else 1


if __name__ == "__main__":
    sys.exit(main())
