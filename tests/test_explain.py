"""Why a statement reads more partitions than it might: one case for each reason, on trees that no server holds."""

import unittest
from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

from slabrow.core.bounds import CatchAll, Hashed, Listed, Range
from slabrow.core.constants import Surroundings
from slabrow.core.keys import kind_of
from slabrow.core.layout import By
from slabrow.core.names import Name
from slabrow.core.predict import Predictor
from slabrow.core.queries import Schema
from slabrow.core.tree import Division, KeyColumn, Partition, Tree

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
