"""Made-up values on the server, type by type; statements with fresh values; how much of a load there is time for."""

import random
import unittest
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

import numpy as np

from slabrow.core.rehearsal.fresh_values import fresh_runs
from slabrow.core.rehearsal.made_up_column import ColumnFacts, Form, number_of, texts_of
from slabrow.core.rehearsal.made_up_table import (
    MadeUpTable,
    MadeValues,
    SourceTable,
    made_up_tables,
    matched,
    snapped,
)
from slabrow.core.rehearsal.numbered import scattered, shuffled_nearby, words
from slabrow.core.rehearsal.played_day import pace, runs_of
from slabrow.core.statistics.estimates import ColumnStatistics
from slabrow.core.table.shape import Shape
from slabrow.core.upkeep.statements import Load
from slabrow.core.values.key_values import Kind, kind_of
from slabrow.core.values.names import Name
from slabrow.core.weighing.workload import Collector
from slabrow.servers.families import open_session
from slabrow.servers.postgresql.rehearsing.binary_forms import can_encode, field
from slabrow.servers.postgresql.write.binary_copy import HEADER, TRAILER, encode
from tests.support import DatabaseTest

TABLE = Name("apiary", "visit")


def facts(name, type_name, **known):
    statistics = known.pop("statistics", None)
    given = {"width": 12, "not_null": True, "is_unique": False, **known}
    return ColumnFacts(
        name=name, type_name=type_name, kind=kind_of(type_name.partition("#")[0]), statistics=statistics, **given
    )


def table_of(*columns, rows=5_000, named=None):
    source = SourceTable(name=TABLE, shape=Shape(TABLE, "postgres", ()), columns=columns, rows=rows, bytes=1)
    (made,) = made_up_tables([source], {TABLE: rows}, named or {}, with_values=False)
    return made


class BinaryFormTest(DatabaseTest):
    """The server reads what is sent, and reads it as the value that was meant."""

    def sent(self, type_name, made):
        self.sql("DROP TABLE IF EXISTS t")
        self.sql(f"CREATE TABLE t (v {type_name.partition('#')[0]})")
        session = open_session(self.dsn)
        rows = encode([field(made)])
        session.execution.load(Load("COPY t FROM STDIN (FORMAT BINARY)", lambda: iter((HEADER, rows, TRAILER))))
        session.close()
        return [
            value
            for (value,) in self.connection.execute("SELECT v::text FROM t ORDER BY ctid", prepare=False).fetchall()
        ]

    def test_every_type_is_taken(self):
        for type_name in (
            "smallint", "integer", "bigint", "oid", "real", "double precision", "numeric", "numeric(9,2)", "numeric(30)",
            "text", "character varying(5)", "character(9)", "name", "json", "jsonb", "bytea", "uuid", "boolean", "date",
            "timestamp without time zone", "timestamp(3) with time zone", "time without time zone", "interval", "inet", "money",
            "integer[]#23", "text[]#25",
        ):  # fmt: skip
            with self.subTest(type_name):
                self.assertTrue(
                    can_encode(
                        type_name.partition("[")[0] if "#" not in type_name else "x", 23 if "#" in type_name else 0
                    )
                )
                made = table_of(facts("v", type_name), rows=1_000)
                (values,) = next(made.chunks())
                found = self.sent(type_name, values)
                self.assertEqual(1_000, len(found))
                self.sql("DROP TABLE t")
        self.assertFalse(can_encode("tsvector", 0))
        self.assertFalse(can_encode("apiary.mood[]", 20_000))

    def test_numeric_to_the_last_digit(self):
        chance = random.Random(4)
        for digits, scale in ((9, 2), (12, 0), (15, 6), (6, 4), (10, 5), (4, 4)):
            most = 10 ** (digits - scale) - 1
            wanted = [
                Decimal(chance.randint(-(10**scale) * most, 10**scale * most)) / 10**scale for _ in range(200)
            ] + [Decimal(0)]
            column = table_of(facts("v", f"numeric({digits},{scale})")).columns[0]
            made = MadeValues(column, np.array([float(each) for each in wanted]), None)
            with self.subTest(digits=digits, scale=scale):
                found = self.sent(f"numeric({digits},{scale})", made)
                self.assertEqual(
                    [each.quantize(Decimal(1).scaleb(-scale)) for each in wanted], [Decimal(text) for text in found]
                )
                self.sql("DROP TABLE t")

    def test_moments_days_and_nulls(self):
        wanted = [
            datetime(1999, 12, 31, 23, 59, 59, 999_999, UTC),
            datetime(2026, 3, 1, tzinfo=UTC),
            datetime(1961, 1, 2, 3, 4, 5, 6, UTC),
        ]
        column = table_of(facts("v", "timestamp with time zone")).columns[0]
        numbers = np.array([int(number_of(each)) for each in wanted])
        made = MadeValues(column, numbers, np.array([False, True, False]))
        found = self.sent("timestamp with time zone", made)
        self.assertEqual(
            [None if at == 1 else each for at, each in enumerate(wanted)],
            [text and datetime.fromisoformat(text) for text in found],
        )
        self.sql("DROP TABLE t; CREATE TABLE t (v timestamptz)")
        for text in column.texts(numbers):
            self.sql("INSERT INTO t VALUES (%s)", text)
        self.assertEqual(wanted, [value for (value,) in self.sql("SELECT v FROM t ORDER BY ctid")])
        self.assertEqual(
            ["2026-03-01", "1999-12-31"],
            texts_of(Form.DAYS, [number_of(date(2026, 3, 1)), number_of(date(1999, 12, 31))]),
        )


class FreshValuesTest(unittest.TestCase):
    def made(self):
        keepers = ColumnStatistics("keeper_no", 0.0, 50, ((7, 0.4),), tuple(range(0, 101, 2)), 0.0)
        begin = datetime(2026, 1, 1, tzinfo=UTC)
        times = ColumnStatistics("at", 0.0, 5_000, (), tuple(begin + timedelta(days=day) for day in range(60)), 1.0)
        return table_of(
            facts("keeper_no", "integer", statistics=keepers),
            facts("at", "timestamp with time zone", statistics=times),
            facts("note", "text", statistics=ColumnStatistics("note", 0.0, 9, (), (), 0.0)),
        )

    def runs(self, sql, params=(), number=60):
        collector = Collector()
        collector.add_named("q", sql, 1.0, params)
        (shape,) = collector.workload("test").shapes
        return fresh_runs(shape, {TABLE: self.made()}, number, np.random.default_rng(1))

    def test_what_is_compared_by_equality_is_drawn_anew_and_nothing_else(self):
        for sql, params, fixed, varied in (
            (
                "SELECT * FROM apiary.visit WHERE keeper_no = 7 AND at >= '2026-02-01'",
                (),
                "'2026-02-01'",
                "keeper_no = ",
            ),
            ("SELECT * FROM visit v WHERE 7 = v.keeper_no LIMIT 5", (), "LIMIT 5", "WHERE "),
            ("SELECT * FROM visit WHERE keeper_no IN (1, 2, 3) AND note LIKE 'x%'", (), "LIKE 'x%'", "IN ("),
            ("SELECT * FROM visit WHERE note = 'a''b'", (), "visit", "note = "),
            ("SELECT * FROM visit WHERE at = '2026-02-01'", (), "at = '2026-02-01'", None),
            ("SELECT * FROM other WHERE keeper_no = 7", (), "keeper_no = 7", None),
            ("SELECT keeper_no + 7 FROM visit WHERE keeper_no > 7", (), "> 7", None),
        ):
            with self.subTest(sql):
                found = {run.sql for run in self.runs(sql, params)}
                self.assertTrue(all(fixed in each for each in found), found)
                self.assertEqual(varied is None, len(found) == 1, found)

    def test_parameters_stay_constants(self):
        found = self.runs(
            "SELECT * FROM visit WHERE keeper_no = $1 AND note = $2 AND at > $3", ("7", "'x'", "'2026-02-01'")
        )
        self.assertEqual(1, len({run.sql for run in found}))
        self.assertGreater(len({run.params[0] for run in found}), 5)
        self.assertEqual({"'2026-02-01'"}, {run.params[2] for run in found})
        self.assertTrue(all(run.params[1].startswith("'") and run.params[1].endswith("'") for run in found))

    def test_values_come_as_often_as_their_rows(self):
        drawn = self.made().drawn("keeper_no", 4_000, np.random.default_rng(2))
        _, counts = np.unique(drawn, return_counts=True)
        self.assertAlmostEqual(0.4, counts.max() / 4_000, delta=0.04)


class NumbersTest(unittest.TestCase):
    def test_each_number_once_however_far_it_moves(self):
        for rows in (1, 2, 3, 10, 97, 1_000, 4_096):
            for correlation in (0.0, 0.3, 0.7, 0.9, 0.999, 1.0):
                found = shuffled_nearby(np.arange(rows), rows, correlation)
                self.assertEqual(list(range(rows)), sorted(found.tolist()), (rows, correlation))

    def test_words_and_identifiers_differ(self):
        for width, most in ((2, None), (9, None), (40, 5), (3, 3)):
            found = words(np.arange(700), width, most)
            self.assertEqual(700, len(set(found.tolist())), (width, most))
            self.assertLessEqual(max(map(len, found.tolist())), most or 10_000)
            self.assertEqual(sorted(found.tolist()), found.tolist())
        self.assertEqual(5_000, len({bytes(each) for each in scattered(np.arange(5_000))}))

    def test_foreign_keys_lead_to_keys(self):
        keys = np.array([10, 20, 30, 40, 55])
        np.testing.assert_array_equal([10, 10, 30, 55, 55], snapped(np.array([-3, 14, 29, 50, 99]), keys))
        found = matched(np.array([1.0, 2.0, 30.0, 31.0, 54.0]), keys)
        self.assertEqual(sorted(keys.tolist()), sorted(found.tolist()))
        self.assertEqual(30, found[2])
        texts = np.array([b"a", b"b"])
        self.assertEqual({b"a", b"b"}, set(matched(np.array([b"x", b"y", b"z"]), texts).tolist()))

    def test_new_rows_come_after_the_others(self):
        at = ColumnStatistics(
            "at",
            0.0,
            1_000,
            (),
            tuple(datetime(2026, 1, 1, tzinfo=UTC) + timedelta(days=day) for day in range(30)),
            1.0,
        )
        number = ColumnStatistics("id", 0.0, 1_000, (), (1, 1_000), 1.0)
        made = table_of(
            facts("id", "bigint", is_unique=True, statistics=number),
            facts("at", "timestamp with time zone", statistics=at),
            rows=1_000,
        )
        self.assertIsInstance(made, MadeUpTable)
        ids, moments = made.newest(0, 50, 1)
        self.assertEqual(list(range(1_001, 1_051)), ids.values.tolist())
        self.assertEqual(50, len(set(moments.values.tolist())))
        self.assertGreaterEqual(moments.values.min(), number_of(at.histogram[-2]))
        self.assertEqual(Kind.TIMESTAMPTZ, moments.column.facts.kind)


class PaceTest(unittest.TestCase):
    def test_no_more_is_asked_than_there_is_time_for(self):
        for weights, took, rate, budget in (
            ([1_000, 10], [0.001, 2.0], 20, 48), ([1], [30.0], 20, 12), ([5_000] * 20, [0.0005] * 20, 400, 48),
            ([4_000, 240, 2], [0.0002, 0.3, 3.0], 20, 24),
        ):  # fmt: skip
            with self.subTest(weights=weights, took=took):
                chosen = pace(weights, took, rate, budget)
                runs = runs_of(weights, chosen.rate, 60, chosen.least)
                self.assertLessEqual(chosen.rate, rate)
                self.assertGreaterEqual(min(runs), 1)
                asked = sum(took_s * (chosen.least + chosen.looked_at) for took_s in took) + chosen.rate * sum(
                    weight * took_s for weight, took_s in zip(weights, took, strict=True)
                ) / sum(weights)
                self.assertTrue(asked <= budget * 2.5 or (chosen.least, chosen.looked_at) == (1, 1), (asked, chosen))


if __name__ == "__main__":
    unittest.main()
