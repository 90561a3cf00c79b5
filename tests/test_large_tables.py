"""Choosing for large tables: memory, tomorrow, money, what is wanted, and a database at a glance."""

import hashlib
import json
import random
import shlex
import tempfile
import unittest
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from uuid import UUID

import psycopg

from slabrow.core.statistics.glance import Glance, Parts, verdict
from slabrow.core.statistics.row_growth import Growth
from slabrow.core.table.bounds import Hashed, Range
from slabrow.core.table.layout import Coarsen, Layout, Wanted
from slabrow.core.table.spans import parse_span
from slabrow.core.table.tree import KeyColumn, Partition, Tree
from slabrow.core.upkeep.wanted import PrunedShare, unmet
from slabrow.core.values.key_values import Kind
from slabrow.core.values.method import By
from slabrow.core.values.names import Name
from slabrow.servers.postgresql.private.server import start
from slabrow.servers.postgresql.read.facts import table_facts
from tests.support import DatabaseTest, ServerTest, binaries, run

NOW = ("--now", "2026-03-01")
NOWHERE = "postgresql://nowhere.invalid/x"
SCHEMA = (
    "CREATE TABLE apiary.inspection (inspection_id bigint PRIMARY KEY, zone text NOT NULL, inspected_on date NOT NULL, "
    "mites int, note text); CREATE INDEX ON apiary.inspection (inspected_on);"
)


class LargeTest(DatabaseTest):
    """A table of three billion rows, known from a file of some of them."""

    def setUp(self):
        super().setUp()
        draw = random.Random(3)
        numbers = sorted(draw.sample(range(1, 3_000_000_000), 6_000))
        lines = ["inspection_id,zone,inspected_on,mites,note"]
        for place, number in enumerate(numbers):
            day = date(2018, 3, 1) + timedelta(days=place * 2_922 // len(numbers))
            lines.append(f"{number},Z{draw.choices(range(9), range(1, 10))[0]},{day},{draw.randint(0, 90)},{'x' * 40}")
        (self.folder / "rows.csv").write_text("\n".join(lines))
        (self.folder / "schema.sql").write_text(SCHEMA)
        queries = [
            f"-- name: by-id-{n}\n-- weight: 500\nSELECT * FROM apiary.inspection WHERE inspection_id = {draw.choice(numbers)};"
            for n in range(8)
        ]
        for number in range(8):
            first = date(draw.randint(2018, 2025), draw.randint(1, 11), 1)
            last = first.replace(month=first.month + 1)
            asked = f"inspected_on >= '{first}' AND inspected_on < '{last}'"
            queries += [
                f"-- name: month-{number}\n-- weight: 20\nSELECT zone, avg(mites) FROM apiary.inspection WHERE {asked} GROUP BY 1;",
                f"-- name: zone-{number}\n-- weight: 5\nSELECT avg(mites) FROM apiary.inspection WHERE zone = 'Z{number}' AND {asked};",
            ]
        (self.folder / "workload.sql").write_text("\n".join(queries))

    def asked(self, *arguments):
        files = ("--schema", "schema.sql", "--rows-from", "rows.csv", "--rows", "3000000000")
        return (
            "weigh",
            "apiary.inspection",
            *files,
            "--workload",
            "workload.sql",
            "--keep",
            "8 years",
            *NOW,
            *arguments,
        )

    def weigh(self, *arguments):
        return self.json(*self.asked(*arguments), dsn=NOWHERE)

    def test_what_a_practitioner_would_think_of_comes_first_and_is_told_like_an_adviser(self):
        (self.folder / "prices.toml").write_text('[prices]\ncurrency = "EUR"\nmillion_blocks = 0.2\ngb_month = 0.1\n')
        found = self.weigh("--memory", "32GB", "--prices", "prices.toml")
        ranked = found["candidates"]
        self.assertEqual(("range", ["inspected_on"]), (ranked[0]["by"], ranked[0]["key"]))
        kinds = {(each["by"], (each["within"] or {}).get("by")) for each in ranked}
        self.assertLessEqual({("range", "list"), ("range", "hash"), ("range", None), ("none", None)}, kinds)
        # By number of runs nearly all look up by id: who reads only the first line has to know.
        self.assertIn("touch every one of them", found["answer"][0])
        self.assertIn("dropping partitions", " ".join(found["answer"]))
        self.assertTrue(
            any("spans of 1 day" in each["what"] and "--ceiling" in each["why"] for each in found["not_weighed"])
        )
        now = next(each for each in ranked if each["by"] == "none")
        self.assertGreater(now["retire_wal_bytes_a_day"], 1_000 * ranked[0]["retire_wal_bytes_a_day"])
        self.assertGreater(now["reads_a_day"], ranked[0]["reads_a_day"])
        self.assertLess(20 * ranked[0]["upkeep"]["rebuild_ms"], now["upkeep"]["rebuild_ms"])
        self.assertEqual((32 << 30, False), (found["memory"]["cached_bytes"], found["limit"]["asked"]))
        self.assertLess(found["money"]["after"]["reads"], found["money"]["before"]["reads"])
        self.assertAlmostEqual(found["money"]["before"]["storage"], found["bytes"] / 2**30 * 0.1, delta=0.01)
        measures = [each["measure"] for each in found["alternatives"]]
        self.assertTrue(any("blocks" in each or "planning" in each for each in measures), measures)
        text = self.slabrow(*self.asked("--memory", "32GB", "--prices", "prices.toml"), dsn=NOWHERE).stdout
        for words in ("Partition by range (inspected_on)", "In money, a month", "The largest partition", "Not weighed"):
            self.assertIn(words, text)
        self.assertNotRegex(text, r"[0-9]{4,} ms")

    def test_memory_decides_what_is_read(self):
        small, large = (self.weigh("--memory", each, "--key", "inspected_on") for each in ("4GB", "2TB"))
        now = [next(each for each in found["candidates"] if each["by"] == "none") for found in (small, large)]
        self.assertGreater(now[0]["reads_a_day"], 1_000_000)
        self.assertEqual(0, now[1]["reads_a_day"])

    def test_tomorrow_is_weighed_too_and_the_day_on_which_the_first_place_changes(self):
        asked = ("--rows-from", "rows.csv", "--schema", "schema.sql", "--rows", "400000")
        weigh = ("weigh", "apiary.inspection", "--workload", "workload.sql", *asked, *NOW)
        found = self.json(*weigh, "--grown", "10000", dsn=NOWHERE)
        tomorrow = found["tomorrow"]
        self.assertEqual(("none", 4_000_000_000), (found["candidates"][0]["by"], tomorrow["rows"]))
        self.assertIn("range (inspected_on)", tomorrow["candidates"][0]["layout"])
        self.assertTrue(1 < tomorrow["changes_at"] <= 10_000)
        later = self.json(*weigh, "--as-of", "2034-03-01", dsn=NOWHERE)["tomorrow"]
        self.assertAlmostEqual(800_000, later["rows"], delta=40_000)
        for what, arguments, words in [
            ("no growth", ("--grown", "0.5"), "how many times"),
            ("two wishes", ("--grown", "5", "--as-of", "2034-03-01"), "one of them"),
            ("a day that is past", ("--as-of", "2020-01-01"), "later day"),
            ("memory that is no size", ("--memory", "much"), "20GB"),
            ("prices that are none", ("--prices", "rows.csv"), "TOML"),
            ("no processes", ("--jobs", "0"), "1 or more"),
        ]:
            with self.subTest(what):
                self.assertIn(words, self.slabrow(*weigh, *arguments, dsn=NOWHERE, code=2).stderr)
        survey = ("survey", "apiary.inspection", *asked, *NOW, "--grown", "10")
        self.assertEqual(4_000_000, self.json(*survey, dsn=NOWHERE)["later"][0]["rows"])


class ReadsTest(ServerTest):
    """What is read, against the server's own count: a table twenty times as large as the buffers, a layout at a time."""

    def test_the_reads_of_a_day_are_those_that_the_server_counts(self):
        server = start(binaries()[0], {"shared_buffers": "4MB", "autovacuum": "off", "max_parallel_workers_per_gather": "0",
                                       "synchronous_commit": "off", "jit": "off"})  # fmt: skip
        self.addCleanup(server.stop)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        connection = psycopg.connect(server.dsn, autocommit=True)
        self.addCleanup(connection.close)
        rows = 300_000
        months = [
            f"CREATE TABLE m{month} PARTITION OF {{}} FOR VALUES FROM ('2025-{month:02d}-01 00:00+00') TO "
            f"('{2025 + month // 12}-{month % 12 + 1:02d}-01 00:00+00');"
            for month in range(1, 13)
        ]
        columns = "reading_id uuid, hive_id int, taken_at timestamptz NOT NULL, note text"
        connection.execute(
            f"CREATE TABLE plain ({columns}); CREATE TABLE parts ({columns}) PARTITION BY RANGE (taken_at)"
        )
        connection.execute("".join(months).format(*["parts"] * 12))
        for table in ("plain", "parts"):
            connection.execute(
                f"INSERT INTO {table} SELECT md5(n::text)::uuid, n::bigint * 7919 % 1009, timestamptz '2025-01-01 00:00+00' + "
                f"n * interval '365 days' / {rows}, repeat('x', 40) FROM generate_series(0, {rows - 1}) n;"
                f"CREATE INDEX ON {table} (reading_id); CREATE INDEX ON {table} (hive_id, taken_at)"
            )
            connection.execute(f"VACUUM ANALYZE {table}")
        draw = random.Random(4)
        kinds = {
            "by-id": (40, lambda t: f"SELECT * FROM {t} WHERE reading_id = '{UUID(md5(str(draw.randrange(rows))))}'"),
            "recent": (200, lambda t: f"SELECT count(note) FROM {t} WHERE hive_id = {draw.randrange(1009)} AND taken_at >= '2025-12-28 00:00+00'"),
            "week": (4, lambda t: f"SELECT count(note) FROM {t} WHERE taken_at >= '2025-{(month := draw.randint(1, 12)):02d}-02 00:00+00' "
                                  f"AND taken_at < '2025-{month:02d}-09 00:00+00'"),
        }  # fmt: skip
        for table in ("plain", "parts"):
            shown = [f"-- name: {name}/{n}\n-- weight: {times / 12}\n{sql(table)};"
                     for name, (times, sql) in kinds.items() for n in range(12)]  # fmt: skip
            (Path(folder.name) / "workload.sql").write_text("\n".join(shown))
            done = run("weigh", table, "--workload", "workload.sql", "--memory", "4MB", "--key", "taken_at", "--by", "range",
                       "--now", "2026-01-01", "--format", "json", cwd=folder.name, env={"SLABROW_DSN": server.dsn})  # fmt: skip
            candidates = json.loads(done.stdout)["candidates"]
            now = next(each for each in candidates if each["by"] == "none")
            expected = dict.fromkeys(kinds, 0.0)
            for query in now["queries"]:
                expected[query["name"].split("/")[0]] += query["reads"] / 12
            read = dict.fromkeys(kinds, 0.0)
            deck = [name for name, (times, _) in kinds.items() for _ in range(times)]
            for day in range(4):
                draw.shuffle(deck)
                for name in deck:
                    plan = connection.execute(
                        f"EXPLAIN (ANALYZE, BUFFERS, TIMING OFF, FORMAT JSON) {kinds[name][1](table)}".encode()
                    ).fetchone()[0][0]["Plan"]
                    if day:  # the first one fills the buffers
                        read[name] += plan["Shared Read Blocks"] / kinds[name][0] / 3
            for name in kinds:
                with self.subTest(f"{name} on {table}"):
                    self.assertAlmostEqual(read[name], expected[name], delta=0.2 * read[name] + 0.8)


def md5(text):
    return hashlib.md5(text.encode()).hexdigest()


class FactsTest(DatabaseTest):
    def test_a_partitioned_table_tells_of_its_leaves(self):
        self.sql(
            "CREATE TABLE reading (reading_id bigint, hive_id int, PRIMARY KEY (hive_id, reading_id)) PARTITION BY HASH (hive_id);"
            + "".join(
                f"CREATE TABLE reading_{n} PARTITION OF reading FOR VALUES WITH (MODULUS 8, REMAINDER {n});"
                for n in range(8)
            )
            + "CREATE INDEX reading_by_number ON reading (reading_id);"
            "INSERT INTO reading SELECT n, n::bigint * 7919 % 997 FROM generate_series(1, 80000) n; ANALYZE reading"
        )
        facts = table_facts(self.connection, Name(None, "reading"))
        # Of the whole it is eight rising stretches, one after the other.
        self.assertGreater(facts.statistics["reading_id"].correlation, 0.95)
        sizes = {index.name: index.bytes for index in facts.indexes}
        self.assertEqual(
            self.value("SELECT sum(pg_relation_size(oid)) FROM pg_class WHERE relname LIKE 'reading%reading_id_idx'"),
            sizes["reading_by_number"],
        )


def tree(by, leaves):
    key = KeyColumn("taken_at", "taken_at", Kind.TIMESTAMPTZ, "timestamp with time zone", True)
    return Tree(Name("apiary", "reading"), "apiary.reading", by, (key,), tuple(leaves))


class WantedTest(DatabaseTest):
    begin = datetime(2025, 1, 1, tzinfo=UTC)

    def months(self, sizes):
        for place, size in enumerate(sizes):
            low, high = (datetime(2025 + at // 12, at % 12 + 1, 1, tzinfo=UTC) for at in (place, place + 1))
            name = f"reading_{low:%Y_%m}"
            yield Partition(
                Name("apiary", name), name, "apiary.reading", Range((low,), (high,)), rows=1, bytes=size << 20
            )

    def test_what_no_longer_holds_since_when_and_what_to_change(self):
        now = datetime(2026, 3, 1, tzinfo=UTC)
        table = Name("apiary", "reading")
        months = Layout(table, By.RANGE, ("taken_at",), span=parse_span("1 month"), ahead=parse_span("1 month"))
        parts = Layout(table, By.HASH, ("hive_id",), parts=4)
        rising = list(self.months(range(100, 114)))
        hashed = [
            Partition(Name("apiary", f"p{n}"), f"p{n}", "apiary.reading", Hashed(4, n), rows=1, bytes=90 << 20)
            for n in range(4)
        ]
        for what, wanted, layout, leaves, code, words in [
            (
                "too large",
                Wanted(size=110 << 20),
                months,
                rising,
                "too_large",
                ["2025-12-01", "1 week", "slabrow convert"],
            ),
            ("soon too large", Wanted(size=118 << 20), months, rising, "too_large_soon", ["2026-0", "1 week"]),
            ("parts too large", Wanted(size=80 << 20), parts, hashed, "too_large", ["4 partitions", "parts = 8"]),
            ("large enough", Wanted(size=1 << 30), months, rising, None, []),
            (
                "too many",
                Wanted(partitions=10),
                months,
                rising,
                "too_many",
                ["since about 2025-10", "coarsen", "quarter"],
            ),
            ("soon too many", Wanted(partitions=20), months, rising, "too_many_soon", ["2026-0", "come a month"]),
            ("never too many", Wanted(partitions=20), parts, hashed, None, []),
            ("no statistics", Wanted(pruned=0.9), months, rising, "pruning_unknown", ["statement statistics"]),
        ]:
            with self.subTest(what):
                found = unmet(wanted, layout, tree(layout.by, leaves), now, None)
                self.assertEqual([code] if code else [], [each.code for each in found])
                for word in words:
                    self.assertIn(word, found[0].text)
        kept = Layout(table, By.RANGE, ("taken_at",), span=parse_span("1 month"), keep=parse_span("12 months"),
                      coarsen=Coarsen(parse_span("3 months"), parse_span("1 quarter")))  # fmt: skip
        self.assertEqual((), unmet(Wanted(partitions=20), kept, tree(By.RANGE, rising), now, None))
        (missed,) = unmet(
            Wanted(pruned=0.9), months, tree(By.RANGE, rising), now, PrunedShare(0.4, 500, now, "SELECT ?")
        )
        self.assertIn("40 % of 500 runs a day since 2026-03-01", missed.text)

    def test_check_warns_and_its_measures_tell(self):
        self.sql(
            "CREATE TABLE event (event_id bigint, note text) PARTITION BY HASH (event_id);"
            + "".join(
                f"CREATE TABLE event_{n} PARTITION OF event FOR VALUES WITH (MODULUS 2, REMAINDER {n});"
                for n in range(2)
            )
            + "INSERT INTO event SELECT n, repeat('x', 90) FROM generate_series(1, 20000) n; ANALYZE event"
        )
        layout = '[[layout]]\ntable = "public.event"\nby = "hash"\nkey = ["event_id"]\nparts = 2\nwanted = {{ {} }}\n'
        self.layout(layout.format('size = "500 kB", partitions = 1, pruned = "50 %"'))
        done = self.slabrow("tend", "--check", "--metrics", "measures.prom", code=1)
        for words in ("too_large", "too_many", "pruning_unknown", "parts = 4"):
            self.assertIn(words, done.stdout)
        self.assertIn("no longer holds what is wanted", done.stdout + done.stderr)
        self.assertIn('slabrow_unmet{server="",table="public.event"} 2.0', (self.folder / "measures.prom").read_text())
        self.layout(layout.format('size = "1 GB", partitions = 2'))
        self.slabrow("tend", "--check")
        for given, words in [
            ("sise = 3", "did you mean size"),
            ('size = "big"', "not a size"),
            ("partitions = 0", "no number"),
            ('pruned = "150 %"', "no share"),
        ]:
            with self.subTest(given):
                self.layout(layout.format(given))
                self.assertIn(words, self.slabrow("tend", "--check", code=2).stderr)


class FirstVerdictTest(unittest.TestCase):
    def test_what_a_first_look_says(self):
        now, gib = datetime(2026, 3, 1, tzinfo=UTC), 1 << 30
        newest = now - timedelta(days=1)

        def at_a_glance(**known):
            heap = known.pop("bytes", gib)
            return Glance(name=Name("apiary", "o'dd"), spelling="apiary.\"o'dd\"", index_bytes=0, heap_bytes=heap,
                          **{"rows": 1_000_000, "ageing": None, "growth": None, "scanned": None, "fetched": None, "written": None, "parts": None, **known})  # fmt: skip

        def parts(**known):
            return Parts(**{"leaves": 12, "by": "range (at)", "oldest": now - timedelta(days=300), "ends": now + timedelta(days=60),
                            "catch_all_rows": 0, "statistics_rows": 1_000_000, "unanalysed": 0, **known})  # fmt: skip

        doubling = Growth("at", newest, 1_000_000, 2_740.0, 0.0, 1.0)
        still = Growth("at", newest, 1_000_000, 2_740.0, 0.0, 1.0, still_since=newest)
        analyse = 'ANALYZE apiary."o\'dd"'
        for what, table, advice, why, command in [
            ("small", at_a_glance(bytes=gib // 2), "leave it", "it is small", ""),
            ("small, unknown", at_a_glance(bytes=gib // 2, rows=None), "leave it", "never analysed", ""),
            ("unknown", at_a_glance(bytes=9 * gib, rows=None), "look at it", "never analysed", analyse),
            ("fits", at_a_glance(bytes=3 * gib), "leave it", "fit into memory", ""),
            ("large", at_a_glance(bytes=9 * gib), "worth weighing", "56 % of the 16 GB of memory", "slabrow weigh"),
            ("large soon", at_a_glance(bytes=3 * gib, growth=doubling), "worth weighing", "in a year it will have 6,146 MB", "--grown 10"),
            ("small, large soon", at_a_glance(bytes=gib * 3 // 4, growth=doubling), "leave it", "fit into memory", ""),
            ("grew once", at_a_glance(bytes=3 * gib, growth=still), "leave it", "fit into memory", ""),
            ("scanned", at_a_glance(bytes=3 * gib, scanned=90_000_000, fetched=10_000_000), "worth weighing", "90 % of the rows read come from whole scans", "slabrow weigh"),
            ("scanned seldom", at_a_glance(bytes=3 * gib, scanned=9_000_000, fetched=1_000_000), "leave it", "fit into memory", ""),
            ("looked up", at_a_glance(bytes=3 * gib, scanned=40_000_000, fetched=60_000_000), "leave it", "fit into memory", ""),
            ("well kept", at_a_glance(parts=parts()), "fine", "12 partitions, until 2026-04-30", ""),
            ("without any", at_a_glance(parts=parts(leaves=0)), "look at it", "every row is refused", "slabrow census"),
            ("ended", at_a_glance(parts=parts(ends=newest)), "look at it", "has ended (2026-02-28)", "slabrow census"),
            ("ends", at_a_glance(parts=parts(ends=now + timedelta(hours=5))), "look at it", "ends within a day", "slabrow census"),
            ("caught", at_a_glance(parts=parts(catch_all_rows=7)), "look at it", "about 7 rows", "slabrow census"),
            ("unanalysed", at_a_glance(parts=parts(unanalysed=3)), "look at it", "3 partitions were never analysed", analyse),
            ("no statistics", at_a_glance(parts=parts(statistics_rows=None)), "look at it", "never taken", analyse),
            ("stale", at_a_glance(parts=parts(statistics_rows=500_000)), "look at it", "say 500,000 rows", analyse),
            ("by hash", at_a_glance(parts=parts(oldest=None, ends=None)), "fine", "12 partitions", ""),
        ]:  # fmt: skip
            with self.subTest(what):
                found = verdict(table, 16 * gib, now, "ANALYZE {}")
                self.assertEqual(advice, found.advice)
                self.assertIn(why, found.why)
                self.assertTrue(command in found.command and bool(command) == bool(found.command), found.command)
                if found.command.startswith("slabrow"):
                    self.assertIn('apiary."o\'dd"', shlex.split(found.command))


class GlanceTest(DatabaseTest):
    def test_a_database_at_a_glance(self):
        self.sql(
            "CREATE TABLE hive (hive_id int); INSERT INTO hive SELECT generate_series(1, 9); ANALYZE hive;"
            "CREATE TABLE reading (taken_at timestamptz, hive_id int) PARTITION BY RANGE (taken_at);"
            "CREATE TABLE reading_2026_01 PARTITION OF reading FOR VALUES FROM ('2026-01-01 00:00+00') TO ('2026-02-01 00:00+00');"
            "CREATE TABLE reading_rest PARTITION OF reading DEFAULT;"
            "INSERT INTO reading SELECT timestamptz '2026-01-01 00:00+00' + n * interval '2 minutes', n % 9 FROM generate_series(1, 30000) n;"
            "ANALYZE reading;"
            'CREATE TABLE "Odd \'Täble" ("%s" date); CREATE TABLE hidden (n int); CREATE VIEW seen AS SELECT 1 AS one'
        )
        found = self.json("survey", *NOW)
        tables = {each["table"]: each for each in found["tables"]}
        self.assertEqual({"public.hive", "public.reading", 'public."Odd \'Täble"', "public.hidden"}, set(tables))
        reading = tables["public.reading"]
        self.assertEqual((30_000, "taken_at", 2), (reading["rows"], reading["ageing"], reading["partitions"]["leaves"]))
        self.assertEqual("look at it", reading["verdict"])
        self.assertIn("catch-all", reading["why"])
        self.assertIn("nothing lies ahead", reading["why"])
        self.assertEqual("slabrow census reading", reading["command"])
        self.assertEqual("leave it", tables["public.hive"]["verdict"])
        text = self.slabrow("survey", *NOW).stdout
        self.assertIn("slabrow census reading", text)
        self.sql('CREATE TABLE "$(touch made)" (n int) PARTITION BY HASH (n)')
        named = {each["table"]: each["command"] for each in self.json("survey", *NOW)["tables"]}
        # A command that is copied into a shell runs nothing but slabrow.
        self.assertEqual("slabrow census '\"$(touch made)\"'", named['public."$(touch made)"'])
        self.sql('DROP TABLE "$(touch made)"; CREATE TABLE "a\x1b[31m\nb" (n int) PARTITION BY HASH (n)')
        self.assertNotIn("\x1b", self.slabrow("survey", *NOW).stdout)
        self.sql('DROP TABLE "a\x1b[31m\nb"')
        self.sql("GRANT SELECT ON reading TO reader")
        few = self.json("survey", *NOW, dsn=self.dsn_as("reader"))
        self.assertEqual((["public.reading"], 3), ([each["table"] for each in few["tables"]], few["hidden"]))
        self.slabrow("survey", "--by", "taken_at", code=2)
        self.assertIn("slabrow survey", self.slabrow("forecast", code=2).stderr)
        self.layout('[[layout]]\ntable = "public.reading"\nby = "range"\nkey = ["taken_at"]\nspan = "1 month"\n')
        self.assertEqual(4, len(self.json("survey", "--all", *NOW)["tables"]))
        self.assertEqual(10 * 22_319, self.json("forecast", *NOW, "--exact", "--grown", "10")["partitions"][0]["rows"])


if __name__ == "__main__":
    unittest.main()
