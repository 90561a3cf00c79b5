"""Hash routing without a server: equal to the server for every type, NULLs, several columns, any and uneven moduli."""

import random
import unittest
from decimal import Decimal
from uuid import UUID

import numpy as np

from slabrow.core.hashing.hash_encoding import keys_hash, parse_types
from slabrow.core.hashing.hashing import HashColumn, LongWords, homes
from slabrow.core.values.errors import UsageError
from tests.support import DatabaseTest, binaries

CHANCE = random.Random(20_250_101)
EDGES = {
    "int2": ["0", "-1", "32767", "-32768"],
    "int4": ["0", "-1", "2147483647", "-2147483648"],
    "int8": ["0", "-1", "4294967296", "-4294967297", "9223372036854775807", "-9223372036854775808"],
    "text": ["", "a", "NULL", "käfer", "蜂", "🐝" * 9, "x" * 11, "x" * 12, "x" * 13, "x" * 1000, "tab\t'quote'"],
    "uuid": ["00000000-0000-0000-0000-000000000000", "FFFFFFFF-FFFF-FFFF-FFFF-FFFFFFFFFFFF"],
    "date": ["2000-01-01", "0001-01-01", "9999-12-31", "infinity", "-infinity", "2028-02-29"],
    "timestamp": ["2000-01-01 00:00:00", "1999-12-31 23:59:59.999999", "infinity", "-infinity", "0001-01-01 00:00:00"],
    "timestamptz": ["2026-03-29 01:30:00+00", "2026-03-29 07:00:00+05:30", "infinity", "-infinity"],
    "bool": ["t", "f", "true", "off"],
    "bytea": ["\\x", "\\x00", "\\x6162", "abc", "a\\\\b\\001"],
    "numeric": ["0", "-0.000", "1", "-1", "10000", "0.0001", "0.00001", "123456789012345678901234567890.12345", "1.5", "1.50",
                "1e20", "1e-20", "99990000", "0.09", "NaN", "Infinity", "-Infinity", "100000000.0001"],
}  # fmt: skip
RANDOM = {
    "int2": lambda: str(CHANCE.randint(-(2**15), 2**15 - 1)),
    "int4": lambda: str(CHANCE.randint(-(2**31), 2**31 - 1)),
    "int8": lambda: str(CHANCE.randint(-(2**63), 2**63 - 1) >> CHANCE.randint(0, 63)),
    "text": lambda: "".join(CHANCE.choice("abäß蜂🐝 01,'\\\"") for _ in range(CHANCE.randint(0, 40))),
    "uuid": lambda: str(UUID(int=CHANCE.getrandbits(128))),
    "date": lambda: f"{CHANCE.randint(1, 9999):04d}-{CHANCE.randint(1, 12):02d}-{CHANCE.randint(1, 28):02d}",
    "timestamp": lambda: f"{RANDOM['date']()} {CHANCE.randint(0, 23):02d}:59:07.{CHANCE.randint(0, 999999):06d}",
    "timestamptz": lambda: f"{RANDOM['timestamp']()}+{CHANCE.randint(0, 14):02d}:30".replace(
        "0001-01-01", "0002-01-01"
    ),
    "bool": lambda: CHANCE.choice("tf"),
    "bytea": lambda: "\\x" + CHANCE.randbytes(CHANCE.randint(0, 60)).hex(),
    "numeric": lambda: str(
        Decimal(CHANCE.randint(-(10 ** CHANCE.randint(1, 40)), 10**20)).scaleb(CHANCE.randint(-30, 30))
    ),
}


class ServerAsOracleTest(DatabaseTest):
    def server_remainders(self, types, keys, modulus):
        """What satisfies_hash_partition() says, which stands in every hash partition's own constraint."""
        columns = [f"k{place}" for place in range(len(types))]
        self.sql("DROP TABLE IF EXISTS probe; DROP TABLE IF EXISTS keys")
        self.sql(
            f"CREATE TABLE probe ({', '.join(f'{name} {type_}' for name, type_ in zip(columns, types, strict=True))}) "
            f"PARTITION BY HASH ({', '.join(columns)})"
        )
        for remainder in range(modulus):
            self.sql(
                f"CREATE TABLE probe_{remainder} PARTITION OF probe FOR VALUES WITH (MODULUS {modulus}, REMAINDER {remainder})"
            )
        self.sql(
            "SET timezone = 'UTC'; CREATE TEMP TABLE keys (n int, "
            + ", ".join(f"{name} text" for name in columns)
            + ")"
        )
        with self.connection.cursor().copy(f"COPY keys (n, {', '.join(columns)}) FROM STDIN") as copy:
            for number, key in enumerate(keys):
                copy.write_row((number, *key))
        self.sql("ALTER TABLE probe ADD COLUMN n int; INSERT INTO probe (n, " + ", ".join(columns) + ") SELECT n, " + ", ".join(
            f"{name}::{type_}" for name, type_ in zip(columns, types, strict=True)) + " FROM keys")  # fmt: skip
        rows = self.sql("SELECT tableoid::regclass::text FROM probe ORDER BY n")
        return [int(name.removeprefix("probe_")) for (name,) in rows]

    def test_every_type_goes_where_the_server_puts_it(self):
        for name, edges in EDGES.items():
            values = [*edges, *(RANDOM[name]() for _ in range(3_000))]
            keys = [(None,), *((value,) for value in values)]
            for modulus in (7, 16):
                with self.subTest(name, modulus=modulus):
                    ours = (keys_hash(list(zip(*keys, strict=True)), parse_types(name)) % np.uint64(modulus)).tolist()
                    theirs = self.server_remainders([name], keys, modulus)
                    wrong = [
                        (key, our, their) for key, our, their in zip(keys, ours, theirs, strict=True) if our != their
                    ]
                    self.assertEqual([], wrong[:5])

    def test_several_columns_with_nulls_on_every_version(self):
        types = ["int8", "text", "date", "numeric(12,2)", "varchar(90)"]
        names = ["int8", "text", "date", "int4", "text"]
        keys = [tuple(None if CHANCE.random() < 0.2 else RANDOM[name]() for name in names) for _ in range(2_000)]
        keys.append((None,) * 5)
        ours = (keys_hash(list(zip(*keys, strict=True)), parse_types(",".join(types))) % np.uint64(13)).tolist()
        self.assertEqual(ours, self.server_remainders(types, keys, 13))

    def test_composite_values(self):
        self.sql("DROP TYPE IF EXISTS place; CREATE TYPE place AS (zone text, row_number int4, since date)")

        def quoted(text):
            return "" if text is None else '"' + text.replace("\\", "\\\\").replace('"', '""') + '"'

        keys = [
            (
                f"({','.join(quoted(None if CHANCE.random() < 0.2 else RANDOM[each]()) for each in ('text', 'int4', 'date'))})",
            )
            for _ in range(2_000)
        ]
        keys += [(None,), ("(,,)",), ('("",,)',), ("(a\\,b,1,2026-03-01)",), ('(" x ",0,infinity)',)]
        ours = (keys_hash(list(zip(*keys, strict=True)), parse_types("row(text,int4,date)")) % np.uint64(7)).tolist()
        theirs = self.server_remainders(["place"], keys, 7)
        self.assertEqual(
            [], [(key, our, their) for key, our, their in zip(keys, ours, theirs, strict=True) if our != their][:5]
        )

    def test_timestamps_are_rounded_to_their_precision(self):
        keys = [
            ("1999-12-31 23:59:59.9995",),
            ("2026-03-01 00:00:00.0005",),
            ("2026-03-01 00:00:00.123456",),
            ("infinity",),
        ]
        ours = (keys_hash(list(zip(*keys, strict=True)), parse_types("timestamp(3)")) % np.uint64(11)).tolist()
        self.assertEqual(ours, self.server_remainders(["timestamp(3)"], keys, 11))

    def test_scaled_numerics_are_rounded_as_the_server_stores_them(self):
        keys = [("1.005",), ("-1.005",), ("2.675",), ("0.004",), ("1234567.895",), ("12",)]
        ours = (keys_hash(list(zip(*keys, strict=True)), parse_types("numeric(12,2)")) % np.uint64(11)).tolist()
        self.assertEqual(ours, self.server_remainders(["numeric(12,2)"], keys, 11))


for each in binaries()[1:]:
    globals()[f"HashOn{each.version}Test"] = type(
        f"HashOn{each.version}Test", (ServerAsOracleTest,), {"version": each.version}
    )


class HashingTest(unittest.TestCase):
    def test_uneven_moduli_send_each_key_to_the_part_that_holds_it(self):
        column = HashColumn(LongWords(np.arange(10_000)))
        whole = homes([column], [(8, remainder) for remainder in range(8)])
        uneven = homes([column], [(2, 0), (4, 1), (8, 3), (8, 7)])
        expected = {0: 0, 2: 0, 4: 0, 6: 0, 1: 1, 5: 1, 3: 2, 7: 3}
        self.assertEqual([expected[each] for each in whole.tolist()], uneven.tolist())
        self.assertEqual({-1, 0}, set(homes([column], [(2, 0)]).tolist()))

    def test_types_and_values_that_are_not_hashed_are_refused(self):
        for types in ["point", "float8", "intt8", ""]:
            with self.subTest(types), self.assertRaises(UsageError) as raised:
                parse_types(types)
            self.assertIn("are not hashed here", raised.exception.problem)
        for types, value in [("int2", "32768"), ("int8", "9223372036854775808"), ("int4", "1.5"), ("uuid", "x"), ("bool", "2"),
                             ("date", "2026-02-30"), ("date", "6000000-01-01"), ("bytea", "\\xzz"), ("bytea", "a\\q"), ("numeric", "x")]:  # fmt: skip
            with self.subTest(types, value=value), self.assertRaises(UsageError):
                keys_hash([[value]], parse_types(types))


class RouteOfflineTest(DatabaseTest):
    def test_values_and_files_are_routed_without_a_server(self):
        arguments = ("--by", "hash", "--types", "int8,text", "--parts", "16")
        dead = "postgresql://127.0.0.1:1/x"
        routes = self.json("route", *arguments, "17,abc", '18,"a,b"', ",", '5,""', dsn=dead)["routes"]
        self.assertEqual([["17", "abc"], ["18", "a,b"], [None, None], ["5", ""]], [route["value"] for route in routes])
        expected = self.routes_of_server("bigint", "text", [("17", "abc"), ("18", "a,b"), (None, None), ("5", "")])
        self.assertEqual(expected, [route["remainder"] for route in routes])
        (self.folder / "keys.csv").write_text('17,abc\n18,"a,b"\n,\n5,""\n6,"two\nlines"\n')
        streamed = self.json("route", *arguments, "--values", "keys.csv", dsn=dead)["routes"]
        self.assertEqual((routes, ["6", "two\nlines"]), (streamed[:4], streamed[4]["value"]))
        rows = self.slabrow("route", *arguments, "--values", "keys.csv", "--format", "csv").stdout
        self.assertIn(f'"17, abc",,{expected[0]},remainder', rows)

    def routes_of_server(self, *types_and_keys):
        *types, keys = types_and_keys
        columns = [f"k{place} {type_}" for place, type_ in enumerate(types)]
        self.sql(
            f"CREATE TABLE t ({', '.join(columns)}) PARTITION BY HASH ({', '.join(f'k{n}' for n in range(len(types)))})"
        )
        for remainder in range(16):
            self.sql(f"CREATE TABLE t_{remainder} PARTITION OF t FOR VALUES WITH (MODULUS 16, REMAINDER {remainder})")
        homes_ = [self.value("INSERT INTO t VALUES (%s, %s) RETURNING tableoid::regclass::text", *key) for key in keys]
        return [int(name.removeprefix("t_")) for name in homes_]

    def test_a_file_is_routed_to_the_partitions_of_a_table(self):
        self.sql(
            "CREATE TABLE t (k int) PARTITION BY RANGE (k); CREATE TABLE t_1 PARTITION OF t FOR VALUES FROM (1) TO (5)"
        )
        (self.folder / "keys.csv").write_text("1\n5\n\n")
        routed = self.json("route", "--table", "t", "--values", "keys.csv", code=1)
        self.assertEqual(["t_1", None, None], [route["partition"] for route in routed["routes"]])

    def test_the_spread_shows_a_giant_and_the_forecast_agrees_with_it(self):
        keys = ["1"] * 600 + [str(n) for n in range(2, 402)]
        (self.folder / "keys.csv").write_text("\n".join(keys) + "\n")
        shown = self.slabrow(
            "route", "--by", "hash", "--types", "int4", "--parts", "4", "--values", "keys.csv", "--picture", "s.png"
        )
        self.assertIn(
            "401 different keys; the commonest has 60 % of the rows, more than an even part of 4", shown.stdout
        )
        self.assertEqual(b"\x89PNG", (self.folder / "s.png").read_bytes()[:4])
        self.sql("CREATE TABLE t (k int NOT NULL)")
        with self.connection.cursor().copy("COPY t FROM STDIN") as copy:
            copy.write("\n".join(keys) + "\n")
        self.sql("ANALYZE t")
        self.layout('[[layout]]\ntable = "public.t"\nby = "hash"\nkey = ["k"]\nparts = 4\n')
        exact = [each["rows"] for each in self.json("forecast", "--exact")["partitions"]]
        estimated = [each["rows"] for each in self.json("forecast")["partitions"]]
        self.slabrow("convert", "--way", "locked", "--go")
        counted = [each["rows"] for each in self.json("census", "public.t", "--exact")["partitions"]]
        self.assertEqual(exact, counted)
        self.assertLess(max(abs(one - other) for one, other in zip(estimated, counted, strict=True)), 60)

    def test_what_cannot_be_routed_offline_is_refused(self):
        for arguments, hint in [
            (["--by", "hash", "17"], "--types int8,text"),
            (["--by", "hash", "--types", "point", "--parts", "4", "1"], "are not hashed here"),
            (["--by", "hash", "--types", "int4", "--parts", "0", "1"], "out of range"),
            (["--by", "hash", "--types", "int4", "--parts", "4", "1,2,3"], "not a value of type int4"),
            (["--by", "hash", "--types", "int4,text", "--parts", "4", "1"], "the key has 2"),
            (["--by", "hash", "--types", "int4", "--parts", "4", "--values", "/nonexistent"], "there is no file"),
            (["--types", "int4", "17"], "add --by hash"),
            (["--by", "hash", "--types", "int4", "--parts", "4"], "neither VALUE"),
            (
                ["--by", "hash", "--types", "timestamptz", "--parts", "4", "--zone", "Moon/Sea", "2026-01-01"],
                "no time zone",
            ),
        ]:
            with self.subTest(arguments):
                self.assertIn(hint, self.slabrow("route", *arguments, code=2).stderr)
