"""Why a statement reads more partitions than it might: one case for each reason, on trees that no server holds."""

import random
import unittest
from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

import psycopg

from slabrow.core.pruning.predict import Predictor
from slabrow.core.rewriting.statement_rewrites import rewritten
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.sql.schema import Schema
from slabrow.core.table.bounds import CatchAll, Hashed, Listed, Range
from slabrow.core.table.tree import Division, KeyColumn, Partition, Tree
from slabrow.core.values.key_values import kind_of
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.ask import predicting
from tests.support import DatabaseTest

TYPES = {"day": "date", "site": "integer", "zone": "text", "note": "text", "at": "timestamp with time zone"}
COLUMNS = {name: KeyColumn(name, name, kind_of(type_), type_) for name, type_ in TYPES.items()}
TABLE = Name("public", "t")
AROUND = Surroundings(ZoneInfo("Europe/Berlin"), datetime(2026, 3, 15, 12, tzinfo=UTC))


def tree(by, key, bounds, division=None, inner=()):
    parts = [
        Partition(Name("public", f"p{n}"), f"p{n}", "t", each, division is None, division=division)
        for n, each in enumerate(bounds)
    ]
    parts += [
        Partition(Name("public", f"p{n}_{m}"), f"p{n}_{m}", f"p{n}", each)
        for n in range(len(bounds))
        for m, each in enumerate(inner)
    ]
    return Tree(TABLE, "t", by, tuple(COLUMNS[name] for name in key), tuple(parts))


def months(*ends, width=()):
    return [Range((one, *width), (other, *width)) for one, other in zip(ends, ends[1:], strict=False)]


DAYS = tree(
    By.RANGE, ["day"], [*months(date(2026, 1, 1), date(2026, 2, 1), date(2026, 3, 1), date(2026, 4, 1)), CatchAll()]
)
PAIRS = tree(By.RANGE, ["day", "site"], months(date(2026, 1, 1), date(2026, 2, 1), date(2026, 3, 1), width=(0,)))
PARTS = tree(By.HASH, ["site", "zone"], [Hashed(4, n) for n in range(4)])
ZONES = tree(By.LIST, ["zone"], [Listed(("a", "b")), Listed(("c", None)), CatchAll()])
DIVIDED = tree(By.RANGE, ["day"], DAYS.children[0:0] or months(date(2026, 1, 1), date(2026, 2, 1), date(2026, 3, 1)),
               Division(By.HASH, (COLUMNS["site"],)), [Hashed(2, 0), Hashed(2, 1)])  # fmt: skip


def touched(tree_, where, shape="SELECT * FROM t WHERE {}"):
    predictor = Predictor(
        tree_, Schema({TABLE: COLUMNS, Name("public", "o"): {"site": COLUMNS["site"], "n": COLUMNS["site"]}})
    )
    sql = shape.format(where)
    found = predictor.touched(sql, AROUND)
    return found, {str(each.reason): each.fragment for each in predictor.reasons(sql, AROUND)}


class ReasonsTest(unittest.TestCase):
    def test_each_reason_with_the_part_of_the_statement_that_it_is_about(self):
        for what, tree_, where, code, fragment in [
            ("nothing about the key", DAYS, "note = 'x'", "no_condition", "day"),
            ("no condition at all", DAYS, "true", "no_condition", "day"),
            ("a function", DAYS, "date_trunc('month', day) = '2026-01-01'", "function_on_key", "DATE_TRUNC"),
            ("a cast", DAYS, "day::text = '2026-01-01'", "function_on_key", "CAST"),
            ("a calculation", DAYS, "day + 1 = '2026-01-01'", "arithmetic_on_key", "day + 1"),
            ("another column of the row", DAYS, "day = day - site", "arithmetic_on_key", "day - site"),
            ("chance", PARTS, "site = random()::int AND zone = 'a'", "volatile_value", "RAND"),
            ("an arm without the key", DAYS, "day = '2026-01-05' OR note = 'x'", "or_without_key", "OR note"),
            ("a pattern", ZONES, "zone LIKE 'a%'", "pattern_match", "LIKE"),
            ("half of a hash key", PARTS, "site = 5", "hash_not_full", "zone"),
            ("a range of a hash key", PARTS, "site > 5 AND zone = 'a'", "hash_not_full", "site > 5"),
            ("the later column alone", PAIRS, "site = 5", "leading_column_missing", "day"),
            ("a negation on a range", DAYS, "day <> '2026-01-05'", "negation", "day <> '2026-01-05'"),
            ("a number with a point", PARTS, "site = 5.0 AND zone = 'a'", "type_mismatch", "5.0"),
            ("a join", DAYS, "t.day = u.day", "known_only_running", "u.day"),
        ]:  # fmt: skip
            with self.subTest(what):
                shape = "SELECT * FROM t JOIN u ON {}" if "u.day" in where else "SELECT * FROM t WHERE {}"
                _, reasons = touched(tree_, where, shape)
                self.assertIn(code, reasons)
                self.assertIn(fragment, reasons[code])

    def test_a_statement_that_uses_its_key_has_no_reason(self):
        for tree_, where in [
            (DAYS, "day = '2026-01-05'"),
            (PARTS, "site = 5 AND zone = 'a'"),
            (ZONES, "zone IN ('a', 'c')"),
            (PAIRS, "(day, site) = ('2026-01-05', 1)"),
        ]:
            with self.subTest(where):
                self.assertEqual({}, touched(tree_, where)[1])

    def test_when_it_is_decided(self):
        for what, where, planned, started, runs in [
            ("a literal", "day = '2026-01-05'", 1, 1, False),
            ("the clock", "day >= now()::date", 4, 2, False),
            ("an instant against days", "day < '2026-02-01 00:00+01'::timestamptz", 4, 2, False),
            ("a sub-query", "day = (SELECT max(day) FROM t)", 4, 4, True),
            ("today as a literal", "day = 'today'", 1, 1, False),
        ]:
            with self.subTest(what):
                found, _ = touched(
                    DAYS, where, "SELECT * FROM t a WHERE {}" if "max" not in where else "SELECT * FROM t WHERE {}"
                )
                if "max" not in where:
                    self.assertEqual((planned, started), (len(found.planned), len(found.started)))
                self.assertEqual(runs, found.may_prune_running)

    def test_partitions_of_partitions_are_left_out_level_by_level(self):
        self.assertEqual(4, len(touched(DIVIDED, "true")[0].started))
        self.assertEqual(2, len(touched(DIVIDED, "day = '2026-01-05'")[0].started))
        self.assertEqual(2, len(touched(DIVIDED, "site = 7")[0].started))
        self.assertEqual(1, len(touched(DIVIDED, "site = 7 AND day = '2026-01-05'")[0].started))


class RewriteTest(DatabaseTest):
    """Words that prune, held against the rows that both return, in zones east and west and where clocks change."""

    def test_rewrites_return_the_same_rows(self):
        self.sql(
            "CREATE TABLE plain (at timestamptz, local timestamp, day date, n int);"
            "INSERT INTO plain SELECT timestamptz '2025-12-25 00:00+00' + m * interval '17 minutes', timestamp '2025-12-25' + m * interval '17 minutes',"
            " date '2025-12-25' + m / 80, m % 40 FROM generate_series(0, 9000) m; INSERT INTO plain VALUES (NULL, NULL, NULL, NULL)"
        )
        cases = [
            ("at", "date_trunc('month', {}) = '2026-01-01'"), ("at", "date_trunc('week', {}) = '2026-01-05'"), ("at", "{}::date = '2026-03-29'"),
            ("at", "extract(year FROM {}) = 2026"), ("at", "to_char({}, 'YYYY-MM') = '2026-03'"), ("at", "({} AT TIME ZONE 'Asia/Kolkata')::date = '2026-01-31'"),
            ("at", "to_char({}, 'YYYY-MM-DD') = '2026-03-29'"), ("at", "date_trunc('quarter', {}) = '2026-01-01'"), ("at", "date_trunc('hour', {}) = '2026-03-29 03:00'"),
            ("local", "date_trunc('day', {}) = '2026-02-28'"), ("local", "{}::date = '2026-02-28'"), ("local", "extract(year FROM {}) = 2025"),
            ("at", "{}::date BETWEEN '2026-01-30' AND '2026-02-02'"), ("at", "{}::date IN ('2026-03-28', '2026-03-29')"), ("at", "'2026-02-01' > {}::date"),
            ("at", "date_trunc('month', {}) > '2026-01-15'"), ("at", "date_trunc('month', {}) <= '2026-01-15'"), ("at", "date_trunc('week', {}) < '2026-01-05'"),
            ("at", "date_trunc('day', {}, 'Asia/Kolkata') = '2026-01-31 00:00+05:30'"), ("at", "date_trunc('month', {} AT TIME ZONE 'Asia/Kolkata') = '2026-02-01'"),
            ("at", "extract(year FROM {}) = 2026 AND extract(month FROM {}) = 2"), ("at", "extract(year FROM {}) >= 2026"), ("at", "extract(epoch FROM {}) < 1770000000"),
            ("at", "{}::text LIKE '2026-02-%'"), ("at", "{}::text LIKE '2026-03-29%'"), ("day", "{}::text LIKE '2026-03%'"), ("local", "{}::text LIKE '2025%'"),
            ("at", "{} + interval '90 minutes' >= '2026-03-29 03:00'"), ("at", "now() - {} < interval '1000 days'"), ("at", "{}::date <= now()::date - 100"),
            ("local", "{} + interval '2 days' < '2026-01-15'"), ("at", "coalesce({}, '2027-01-01') >= '2026-02-01'"), ("at", "coalesce({}, '2025-01-01') >= '2026-02-01'"),
            ("day", "date_trunc('month', {}) = '2026-02-01'"), ("at", "to_char({}, 'YYYYMM') = '202602'"), ("at", "{}::timestamp::date = '2026-02-01'"),
            ("at", "date_trunc('month', {}) < date_trunc('month', timestamptz '2026-03-29')"), ("at", "{}::date < current_date"), ("at", "date_trunc('week', {}) < date_trunc('week', now())"),
            ("day", "{} + 1 = '2026-03-01'"), ("day", "{} - 7 >= '2026-02-20'"), ("n", "{} + 5 < 20"), ("n", "{} - 5 = 20"),
        ]  # fmt: skip
        # A statement that the driver prepares would keep its literals as the earlier zone read them.
        self.connection.prepare_threshold = None
        schema = predicting.schema(self.connection, [Name(None, "plain")])
        for zone in ("UTC", "Europe/Berlin", "America/New_York", "Asia/Kathmandu"):
            self.sql(f"SET timezone = '{zone}'")
            around = Surroundings(ZoneInfo(zone), datetime(2026, 3, 15, tzinfo=UTC))
            for column, where in cases:
                key = schema.tables[Name("public", "plain")][column]
                sql = f"SELECT * FROM plain p WHERE {where.replace('{}', 'p.' + column)} AND coalesce(n, 0) >= 0"
                found = rewritten(sql, Name("public", "plain"), schema, (key,), around).rewrite
                with self.subTest(where, zone=zone):
                    if found is None:
                        self.assertIn("date_trunc", where)  # an hour or a day that is no beginning there
                        continue
                    self.assertEqual(sorted(self.sql(sql), key=str), sorted(self.sql(found.sql), key=str))
                    self.assertTrue(self.sql(sql) or "hour" in where)

    def test_random_conditions_return_the_same_rows(self):
        """Wherever other words are offered, whatever the zone: 600 conditions, most of them around changes of clocks."""
        chance = random.Random(4)
        self.sql(
            "CREATE TABLE plain (at timestamptz, local timestamp, day date, n int);"
            "INSERT INTO plain SELECT t, t AT TIME ZONE 'UTC', (t AT TIME ZONE 'UTC')::date, m FROM "
            "(SELECT m, timestamptz '2025-10-20 00:00+00' + m * interval '30 minutes' AS t FROM generate_series(0, 12000) m) x;"
            "INSERT INTO plain VALUES (NULL, NULL, NULL, NULL), ('infinity', 'infinity', 'infinity', 2147483647), ('-infinity', '-infinity', '-infinity', 0)"
        )
        self.connection.prepare_threshold = None
        schema = predicting.schema(self.connection, [Name(None, "plain")])
        offered = 0
        for number in range(600):
            zone = chance.choice(
                (
                    "UTC",
                    "Europe/Berlin",
                    "America/New_York",
                    "America/Havana",
                    "Australia/Lord_Howe",
                    "Asia/Kathmandu",
                    "Africa/Cairo",
                )
            )
            column = chance.choice(("at", "at", "local", "day"))
            where = self.random_condition(chance, "p." + column)
            sql = f"SELECT count(*), sum(n::bigint * n % 99991) FROM plain p WHERE {where}"
            self.sql(f"SET timezone = '{zone}'")
            try:
                rows = self.sql(sql)
            except psycopg.Error:
                continue  # a condition that the server refuses
            around = Surroundings(ZoneInfo(zone), datetime(2026, 3, 15, tzinfo=UTC))
            key = schema.tables[Name("public", "plain")][column]
            found = rewritten(sql, Name("public", "plain"), schema, (key,), around).rewrite
            if found is not None:
                offered += 1
                with self.subTest(where, zone=zone, number=number):
                    self.assertEqual(rows, self.sql(found.sql), found.after)
        self.assertGreater(offered, 200)

    @staticmethod
    def random_condition(chance, key):
        days = [
            "2025-10-26",
            "2025-11-02",
            "2026-01-01",
            "2026-02-28",
            "2026-03-08",
            "2026-03-29",
            "2026-04-05",
            "2026-06-30",
        ]  # many change clocks
        clocks = ("00:00", "00:30", "01:00", "01:30", "02:00", "02:30", "03:00", "23:59:59.5")

        def day():
            return chance.choice(days)

        def moment():
            return f"{day()} {chance.choice(clocks)}"

        sign = chance.choice(("=", "<", "<=", ">", ">=", "="))
        unit = chance.choice(("hour", "day", "week", "month", "quarter", "year"))
        beginnings = {
            "hour": moment(),
            "day": day(),
            "week": "2026-03-30",
            "month": "2026-03-01",
            "quarter": "2026-01-01",
            "year": "2026-01-01",
        }
        value = chance.choice((beginnings[unit], moment(), day()))
        zoned = f"({key} AT TIME ZONE '{chance.choice(('Europe/Berlin', 'America/New_York', 'UTC', 'Asia/Kolkata'))}')"
        step = chance.choice(("1 hour", "90 minutes", "1 day", "2 days", "1 month", "1 day 2 hours", "-3 hours"))
        return chance.choice((
            f"date_trunc('{unit}', {key}) {sign} '{value}'",
            f"date_trunc('{unit}', {zoned}) {sign} '{value}'",
            f"date_trunc('{unit}', {key}, 'Europe/Berlin') {sign} '{value}'",
            f"date_trunc('{unit}', {key}) {sign} date_trunc('{unit}', timestamptz '{moment()}')",
            f"{key}::date {sign} '{day()}'",
            f"'{day()}' {sign} {key}::date",
            f"{key}::date {sign} date '{day()}' + 1",
            f"{key}::date BETWEEN '2025-10-26' AND '{day()}'",
            f"{key}::date IN ('{day()}', '{day()}')",
            f"{zoned}::date {sign} '{day()}'",
            f"{key}::timestamp::date {sign} '{day()}'",
            f"extract({chance.choice(('year', 'epoch', 'month'))} FROM {key}) {sign} {chance.choice((2025, 2026, 1772000000, 3))}",
            f"extract(year FROM {key}) = 2026 AND extract(month FROM {key}) = {chance.randint(1, 12)}",
            f"extract(year FROM {zoned}) {sign} 2026",
            f"to_char({key}, '{chance.choice(('YYYY', 'YYYY-MM', 'YYYY-MM-DD', 'YYYYMM', 'YYYYMMDD'))}') {sign} '{chance.choice(('2026', '2026-03', '2026-03-29', '202603', '20260329'))}'",
            f"{key}::text LIKE '{chance.choice(('2026%', '2026-03%', '2026-03-29%', '2026-03-29 %', '2026-%'))}'",
            f"{key} {chance.choice('+-')} interval '{step}' {sign} '{moment()}'",
            f"timestamptz '{moment()}' - {key} {sign} interval '{step}'",
            f"coalesce({key}, '{day()}') {sign} '{day()}'",
            f"{key} + {chance.randint(-3, 3)} {sign} '{day()}'",
        ))  # fmt: skip

    def test_what_is_not_equal_is_not_offered(self):
        schema = Schema({TABLE: COLUMNS})
        for what, where in [
            ("months differ in length", "at + interval '1 month' >= '2026-03-01'"),
            ("under NOT a NULL counts otherwise", "NOT (at::date = '2026-01-05')"),
            ("an arm of an OR", "at::date = '2026-01-05' OR site = 1"),
            ("a beginning that is none", "date_trunc('month', at) = '2026-01-05'"),
            ("a month of any year", "extract(month FROM at) = 5"),
            ("another column of the row", "at::date = day"),
            ("a cast to text", "at::text = '2026-01-05'"),
            ("days are not always 24 hours", "at + interval '30 days' > now()"),
            ("an age in months", "now() - at < interval '1 month'"),
            ("a value of the next run", "extract(year FROM at) = $1"),
            ("a pattern within", "at::text LIKE '%03-01%'"),
            ("another type instead of NULL", "coalesce(at, day) >= '2026-01-05'"),
            ("nonsense", "to_char(at, 'YYYY-MM') = 'May'"),
            ("a day that does not exist", "to_char(at, 'YYYY-MM-DD') = '2026-02-30'"),
        ]:
            with self.subTest(what):
                self.assertIsNone(
                    rewritten(f"SELECT 1 FROM t WHERE {where}", TABLE, schema, (COLUMNS["at"],), AROUND).rewrite
                )
