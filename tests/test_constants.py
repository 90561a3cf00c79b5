"""What constant expressions are worth: the same as on the server, and known no earlier than there."""

import re
from datetime import datetime
from decimal import Decimal
from zoneinfo import ZoneInfo

import sqlglot

from slabrow.core.pruning.pruner import When
from slabrow.core.sql.constant_values import NotKnown, Null, Surroundings, Unread
from slabrow.core.sql.constants import cast, evaluate
from slabrow.core.sql.parsed import parse
from slabrow.servers.postgresql.read import catalogue
from tests.support import DatabaseTest, binaries

EXPRESSIONS = [
    "date '2026-01-31' + 1",
    "date '2026-03-01' - 1",
    "timestamp '2026-01-31 10:00' + interval '1 month'",
    "timestamp '2024-02-29' + interval '1 year'",
    "timestamp '2026-03-31' - interval '1 month 1 day'",
    "timestamp '2026-01-01' + interval '-01:30'",
    "timestamp '2026-01-01' + interval '2 days 3:04:05.5'",
    "timestamptz '2026-03-28 12:00' + interval '1 day'",
    "timestamptz '2026-03-28 12:00' + interval '24 hours'",
    "timestamptz '2026-10-25 02:30' + interval '1 month'",
    "timestamptz '2026-03-29 02:30'",
    "timestamptz '2026-10-25 02:30'",
    "timestamptz '2026-01-01 00:00+05:30'",
    "timestamptz '2026-01-01 23:59:59.9999996'",
    "date '2026-01-01' + interval '1 week'",
    "2 * interval '1 day' + timestamp '2026-01-01'",
    "date_trunc('month', timestamp '2026-05-17 13:00')",
    "date_trunc('week', timestamp '2026-05-17 13:00')",
    "date_trunc('quarter', timestamptz '2026-05-17 13:00+00')",
    "date_trunc('day', timestamptz '2026-03-29 13:00+00')",
    "make_date(2026, 2, 28)",
    "timestamp '2026-05-17 13:00' AT TIME ZONE 'Asia/Kolkata'",
    "timestamptz '2026-05-17 13:00+00' AT TIME ZONE 'America/New_York'",
    "'2026-01-01'::date",
    "'2026-01-01 10:00'::timestamp::date",
    "'2026-01-01 23:30+00'::timestamptz::date",
    "('2026-01-01'::date)::timestamp",
    "('2026-06-01'::date)::timestamptz",
    "timestamp '2026-01-01' - interval '3 hours 20 minutes'",
    "'17'::int + 5",
    "-(3 + 4)",
    "1.5 + 2",
    "lower('AbC')",
    "upper('xyz')",
    "'t'::boolean",
    "'5f0c1a52-1d6e-4a53-9d2c-0c8f2b1f7a10'::uuid",
]
ZONES = ("UTC", "Europe/Berlin", "America/New_York", "Asia/Kolkata", "Australia/Lord_Howe")


def plain(value):
    """A value as the driver would give it."""
    if isinstance(value, Unread):
        return value.text
    return value


class ConstantsTest(DatabaseTest):
    def test_worth_what_the_server_says_in_every_zone(self):
        self.connection.prepare_threshold = None
        for zone in ZONES:
            self.sql(f"SET timezone = '{zone}'")
            around = Surroundings(ZoneInfo(zone), catalogue.moment(self.connection))
            for expression in EXPRESSIONS:
                with self.subTest(expression, zone=zone):
                    ours = plain(evaluate(parse(f"SELECT {expression}").expressions[0], around).value)
                    theirs = self.value(f"SELECT {expression}")
                    if isinstance(theirs, datetime) and theirs.tzinfo is not None:
                        theirs = theirs.astimezone(ZoneInfo("UTC"))
                    if isinstance(theirs, Decimal | int) and not isinstance(theirs, bool):
                        ours = type(theirs)(ours)
                    self.assertEqual(theirs, ours)

    def test_known_no_earlier_than_on_the_server(self):
        """What planning knows shows in the plan as a literal; what it does not stays an expression."""
        self.sql("CREATE TABLE t (d date, l timestamp, a timestamptz, n int)")
        around = Surroundings(ZoneInfo("UTC"), catalogue.moment(self.connection))
        for column, expression, expected in [
            ("d", "date '2026-01-01' + 1", When.PLAN),
            ("l", "timestamp '2026-01-01' + interval '1 day'", When.PLAN),
            ("l", "date_trunc('month', timestamp '2026-01-05')", When.PLAN),
            ("a", "timestamptz '2026-01-01' + interval '1 day'", When.START),
            ("a", "now() - interval '1 day'", When.START),
            ("a", "date_trunc('day', timestamptz '2026-01-05')", When.START),
            ("d", "current_date - 7", When.START),
            ("d", "now()::date", When.START),
            ("d", "make_date(2026, 1, 1)", When.PLAN),
            ("a", "timestamp '2026-01-01' AT TIME ZONE 'Asia/Tokyo'", When.PLAN),
            ("l", "localtimestamp", When.START),
            ("n", "abs(-5)", When.PLAN),
        ]:
            with self.subTest(expression):
                lines = [row[0] for row in self.sql(f"EXPLAIN SELECT 1 FROM t WHERE {column} = {expression}")]
                shown = next(line for line in lines if "Filter" in line).strip()
                literal = rf"Filter: \({column} = ('[^']*'::[a-z ]+|\d+)\)"
                self.assertEqual(expected is When.PLAN, re.fullmatch(literal, shown) is not None, shown)
                self.assertEqual(expected, evaluate(parse(f"SELECT {expression}").expressions[0], around).when)

    def test_what_is_not_certain_is_not_known(self):
        around = Surroundings(ZoneInfo("UTC"))
        for expression, is_volatile in [
            ("random()", True),
            ("clock_timestamp()", True),
            ("nextval('s')", True),
            ("my_function(5)", False),
            ("interval '1 month' * 1.5", False),
            ("'abc'::varchar(2)", False),
            ("lower('ÄÖÜ')", False),
            ("timestamp '2026-01-01' - timestamp '2025-01-01'", False),
            ("interval 'sometime'", False),
            ("timestamp '2026-01-01' + interval '1 day ago'", False),
            ("timestamp '2026-01-01' + interval '1 day 2'", False),
            ("$1", False),
        ]:
            with self.subTest(expression), self.assertRaises(NotKnown) as raised:
                evaluate(parse(f"SELECT {expression}").expressions[0], around)
            self.assertEqual(is_volatile, raised.exception.is_volatile)

    def test_null_stays_null_and_parameters_are_looked_up(self):
        around = Surroundings(ZoneInfo("UTC"), None, ("'2026-01-05'", "17", "NULL"))
        self.assertIsInstance(evaluate(sqlglot.parse_one("NULL + 5", read="postgres"), around).value, Null)
        self.assertIsInstance(evaluate(sqlglot.parse_one("$3", read="postgres"), around).value, Null)
        self.assertEqual(22, evaluate(sqlglot.parse_one("$2 + 5", read="postgres"), around).value)
        literal = evaluate(sqlglot.parse_one("$1", read="postgres"), around)
        day = cast(literal, sqlglot.exp.DataType.build("date"), around).value
        self.assertEqual("2026-01-05", str(day))
        generic = Surroundings(ZoneInfo("UTC"), None, None)
        self.assertEqual(When.START, evaluate(sqlglot.parse_one("$1", read="postgres"), generic).when)


for each in binaries()[1:]:
    globals()[f"ConstantsOn{each.version}Test"] = type(
        f"ConstantsOn{each.version}Test", (ConstantsTest,), {"version": each.version}
    )
