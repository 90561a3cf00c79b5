"""Partitions are moved between tablespaces: directly, while they are used, back again, and killed in between."""

import json
import time

import psycopg

from tests.busy import writers
from tests.support import Kills, run
from tests.test_redivision import NOW, WITHIN, RedivisionTest

COLD, FAST = 'cold "store"', "fast"
LIES = """SELECT DISTINCT coalesce(t.spcname, 'pg_default') FROM pg_class c LEFT JOIN pg_tablespace t
    ON t.oid = c.reltablespace WHERE c.oid = {0}::regclass OR c.oid IN
    (SELECT indexrelid FROM pg_index WHERE indrelid = {0}::regclass)"""


class PlacesTest(RedivisionTest):
    def setUp(self):
        super().setUp()
        there = [name for (name,) in self.sql("SELECT spcname FROM pg_tablespace")]
        with psycopg.connect(self.dsn, autocommit=True) as connection:
            connection.execute("SET allow_in_place_tablespaces = on")
            for name in (COLD, FAST):
                if name not in there:
                    quoted = name.replace('"', '""')
                    connection.execute(f"CREATE TABLESPACE \"{quoted}\" LOCATION ''")
        self.fill()

    def lies(self, partition):
        return sorted(name for (name,) in self.sql(LIES.format(f"'apiary.{partition}'")))

    def move(self, partition, target, *more, code=0):
        return self.json("relocate", f"apiary.{partition}", "--to-tablespace", target, *more, *NOW[:2], code=code)

    def moved(self, partition, target, *more):
        return self.move(partition, target, "--go", "--pretend", *more)

    def index_names(self, partition):
        return [name for (name,) in self.sql(
            f"SELECT relname FROM pg_class WHERE oid IN (SELECT indexrelid FROM pg_index WHERE indrelid = "
            f"'apiary.{partition}'::regclass) ORDER BY 1")]  # fmt: skip


class DirectTest(PlacesTest):
    def test_there_and_back_and_never_twice(self):
        names = self.index_names("reading_2025_03")
        before = self.value("SELECT md5(string_agg(r::text, '' ORDER BY reading_id)) FROM apiary.reading_2025_03 r")
        proposed = self.move("reading_2025_03", COLD, code=1)
        self.assertEqual(["pg_default"], self.lies("reading_2025_03"))
        self.assertIn("its readers and writers wait, at most about", " ".join(proposed["notes"]))
        self.assertEqual([COLD], proposed["after"][0]["tablespaces"])
        done = self.moved("reading_2025_03", COLD)
        self.assertEqual(
            ["move indexes of reading_2025_03", "move rows of reading_2025_03"],
            [each["name"] for each in done["steps"]],
        )
        self.assertEqual([COLD], self.lies("reading_2025_03"))
        self.assertEqual(names, self.index_names("reading_2025_03"))
        files = self.sql("SELECT relfilenode FROM pg_class WHERE relname LIKE 'reading_2025_03%' ORDER BY 1")
        again = self.moved("reading_2025_03", COLD)
        self.assertEqual((0, []), (len(again["steps"]), again["transactions"]))
        self.assertEqual(
            files, self.sql("SELECT relfilenode FROM pg_class WHERE relname LIKE 'reading_2025_03%' ORDER BY 1")
        )
        self.moved("reading_2025_03", "pg_default")
        self.assertEqual(["pg_default"], self.lies("reading_2025_03"))
        self.assertEqual(
            before, self.value("SELECT md5(string_agg(r::text, '' ORDER BY reading_id)) FROM apiary.reading_2025_03 r")
        )
        self.assertEqual(["relocate"] * 4, [each["kind"] for each in self.json("history")["entries"]][:4])

    def test_only_what_lies_elsewhere_is_moved(self):
        self.sql(f"ALTER TABLE apiary.reading_2025_04 SET TABLESPACE {FAST}")
        done = self.moved("reading_2025_04", FAST)
        self.assertEqual(["move indexes of reading_2025_04"], [each["name"] for each in done["steps"]])
        self.assertEqual([FAST], self.lies("reading_2025_04"))

    def test_several_at_once_and_what_an_interrupted_build_has_left(self):
        [index, *_] = self.index_names("reading_2025_05")
        self.sql(f"CREATE INDEX {index}_ccnew ON apiary.reading_2025_05 (note)")
        self.sql(f"UPDATE pg_index SET indisvalid = false WHERE indexrelid = 'apiary.{index}_ccnew'::regclass")
        both = ("apiary.reading_2025_05", "apiary.reading_2025_06")
        done = self.json("relocate", *both, "--to-tablespace", FAST, "--go", *NOW)
        self.assertEqual("clear up reading_2025_05", done["steps"][0]["name"])
        self.assertEqual(([FAST], [FAST]), (self.lies("reading_2025_05"), self.lies("reading_2025_06")))
        self.assertNotIn(f"{index}_ccnew", self.index_names("reading_2025_05"))

    def test_killed_at_any_moment_it_goes_on(self):
        self.sql(
            "INSERT INTO apiary.reading (hive_id, taken_at, note) SELECT n % 100, '2025-07-03', repeat('x', 90) FROM generate_series(1, 60000) n"
        )
        rows = self.value("SELECT count(*) FROM apiary.reading_2025_07")
        kills = Kills(within_s=1.1)
        for place in (COLD, FAST) * 3:
            kills.kill(self.begin("relocate", "apiary.reading_2025_07", "--to-tablespace", place, "--go", *NOW))
        self.assertGreaterEqual(kills.midway, 1)
        self.moved("reading_2025_07", COLD)
        self.assertEqual(
            ([COLD], rows), (self.lies("reading_2025_07"), self.value("SELECT count(*) FROM apiary.reading_2025_07"))
        )
        self.assertEqual([], self.sql("SELECT relname FROM pg_class WHERE relname ~ '_cc(new|old)'"))

    def test_a_reader_makes_nobody_wait_long_and_what_cannot_be_is_refused(self):
        for index in self.index_names("reading_2025_08"):
            self.sql(f"ALTER INDEX apiary.{index} SET TABLESPACE {FAST}")
        with psycopg.connect(self.dsn) as reader:
            reader.execute("SELECT count(*) FROM apiary.reading_2025_08")
            arguments = ("relocate", "apiary.reading_2025_08", "--to-tablespace", FAST, "--go", *NOW)
            said = self.slabrow(*arguments, "--lock-deadline", "1s", code=5).stderr
            self.assertIn("a transaction holds the table", said)
        self.moved("reading_2025_08", FAST)
        for arguments, code, words in (
            (("--to-tablespace", "fest"), 2, "did you mean fast"),
            (("--to-tablespace", "nowhere-at-all"), 2, "there is no tablespace"),
            ((), 2, "nothing says where to"),
            (("--status", "--to-tablespace", FAST), 2, "leave it out"),
            (("--undo",), 4, "no relocate of"),
            (("--to-tablespace", FAST, "--script", "out"), 2, "not written as a script"),
        ):
            self.assertIn(words, self.slabrow("relocate", "apiary.reading_2025_08", *arguments, code=code).stderr)
        self.assertIn(
            "is no partition", self.slabrow("relocate", "apiary.hive", "--to-tablespace", FAST, code=2).stderr
        )
        self.sql(
            "CREATE ROLE mover LOGIN; GRANT USAGE ON SCHEMA apiary TO mover; ALTER TABLE apiary.reading_2025_09 OWNER TO mover"
        )
        self.sql("GRANT USAGE ON SCHEMA slabrow TO mover; GRANT SELECT ON ALL TABLES IN SCHEMA slabrow TO mover")
        self.addCleanup(self.sql, "DROP OWNED BY mover; DROP ROLE mover")
        done = self.slabrow(
            "relocate",
            "apiary.reading_2025_09",
            "--to-tablespace",
            FAST,
            env={"SLABROW_DSN": self.dsn_as("mover")},
            code=3,
        )
        self.assertIn(f"GRANT CREATE ON TABLESPACE {FAST} TO mover", done.stderr)


class LiveTest(PlacesTest):
    def test_beside_writers_it_goes_there_and_back_and_is_let_go(self):
        self.sql("ALTER TABLE apiary.reading_2025_03 SET (fillfactor = 71, autovacuum_enabled = off)")
        self.sql("GRANT SELECT ON apiary.reading_2025_03 TO pg_monitor")
        own = "SELECT reloptions, relacl::text FROM pg_class WHERE oid = 'apiary.reading_2025_03'::regclass"
        before = self.sql(own)
        with writers(self.dsn, self.ROWS) as made:
            self.moved("reading_2025_03", COLD, "--way", "live")
            self.assertEqual(before, self.sql(own), "what is its own goes with it")
            self.assertEqual([COLD], self.lies("reading_2025_03"))
            self.assertEqual("swapped", self.json("relocate", "apiary.reading_2025_03", "--status")["phase"])
            time.sleep(0.5)
            self.json("relocate", "apiary.reading_2025_03", "--undo", "--go", *NOW)
            self.assertEqual(["pg_default"], self.lies("reading_2025_03"))
            self.moved("reading_rest", FAST)
            self.assertEqual([FAST], self.lies("reading_rest"), "a catch-all is moved while it is used")
            self.json("relocate", "apiary.reading_rest", "--drop-old", "--go", *NOW)
        self.assert_same(made)
        self.assert_nothing_left()
        self.assertEqual(13, len(self.leaves()))
        self.assertIn(
            "already",
            self.slabrow("relocate", "apiary.reading_rest", "--to-tablespace", FAST, "--way", "live", code=4).stderr,
        )

    def test_killed_at_any_moment_no_row_is_lost(self):
        kills = Kills(within_s=1.5)
        out = ("relocate", "apiary.reading_2025_03", "--to-tablespace", COLD, "--way", "live", "--go", *NOW)
        with writers(self.dsn, self.ROWS) as made:
            for _ in range(6):
                if not kills.kill(self.begin(*out)):
                    self.json("relocate", "apiary.reading_2025_03", "--undo", "--go", *NOW)
            self.moved("reading_2025_03", COLD, "--way", "live")
            self.json("relocate", "apiary.reading_2025_03", "--drop-old", "--go", *NOW)
        self.assertGreaterEqual(kills.midway, 1)
        self.assert_same(made)
        self.assertEqual([COLD], self.lies("reading_2025_03"))
        self.assert_nothing_left()


PLACED = """[[layout]]
table = "apiary.reading"
by = "range"
key = ["taken_at"]
span = "1 month"
ahead = "2 months"
catch_all = true
keep = "12 months"
past_keep = "drop"
at_most_retired = 9
at_most_share = 1.0
place = [{ after = "2 months", tablespace = "fast" }, { after = "6 months", tablespace = 'cold "store"' }]
"""


class AgeTest(PlacesTest):
    """Upkeep moves what has become old enough."""

    def wanted(self, now):
        """By the server: where each month of the table belongs."""
        return dict(self.sql(
            "SELECT c.relname, CASE WHEN up <= %s::timestamptz - interval '6 months' THEN %s "
            "WHEN up <= %s::timestamptz - interval '2 months' THEN %s ELSE 'pg_default' END FROM pg_class c "
            "JOIN pg_inherits i ON i.inhrelid = c.oid AND i.inhparent = 'apiary.reading'::regclass, LATERAL (SELECT "
            "substring(pg_get_expr(c.relpartbound, 0) FROM 'TO \\(''(.*)''')::timestamptz AS up) b WHERE up IS NOT NULL",
            now, COLD, now, FAST,
        ))  # fmt: skip

    def misplaced(self, *now):
        """However many other findings there are."""
        arguments = ("census", "apiary.reading", "--format", "json", *now)
        done = run(*arguments, env={"SLABROW_DSN": self.dsn}, cwd=self.folder)
        return sum(each["code"] == "misplaced" for each in json.loads(done.stdout)["findings"])

    def test_what_lies_in_a_slow_place_is_weighed_so(self):
        self.layout(PLACED)
        self.moved("reading_2025_01", COLD)
        for name, month in (("old", "01"), ("newer", "11")):
            (self.folder / f"{name}.sql").write_text(
                f"-- name: {name}\n-- weight: 500\nSELECT sum(weight) FROM apiary.reading "
                f"WHERE taken_at >= '2025-{month}-01+00' AND taken_at < '2025-{month}-20+00';\n"
            )
        (self.folder / "costs.toml").write_text("[costs]\nplaces = { 'cold \"store\"' = 20 }\n")
        asked = ("weigh", "apiary.reading", "--workload", "old.sql", "--workload", "newer.sql", "--memory", "128kB",
                 "--now", "2026-02-01", "--keep", "P13M")  # fmt: skip

        def running(*more):
            """Of each query: on the table as it is, and on months that are only supposed."""
            found = self.json(*asked, *more)["candidates"]
            months = next(each for each in found if each["span"] == "1 month")
            as_it_is = next(each for each in found if each["by"] == "none")
            return [{each["name"]: each["running_ms"] for each in of["queries"]} for of in (as_it_is, months)]

        for before, after in zip(running(), running("--costs", "costs.toml"), strict=True):
            self.assertGreater(after["old"], 5 * before["old"])
            self.assertAlmostEqual(after["newer"], before["newer"])
        (self.folder / "costs.toml").write_text("[costs]\nplaces = { cold = -1 }\n")
        self.assertIn("a number above 0", self.slabrow(*asked, "--costs", "costs.toml", code=2).stderr)

    def test_every_partition_lies_where_its_age_says_each_day_of_a_year(self):
        self.layout(PLACED)
        rows = self.value("SELECT count(*) FROM apiary.reading")
        moved = 0
        for day in range(0, 365, 13):
            now = str(self.value("SELECT date '2025-06-20' + %s", day))
            done = self.json("tend", "--go", "--pretend", "--now", now)
            moved += sum(each["kind"] == "place" for each in done["actions"])
            for name, place in self.wanted(now).items():
                self.assertEqual([place], self.lies(name), (now, name))
            self.assertEqual([], self.json("tend", "--now", now)["actions"])
            self.assertEqual(0, self.misplaced("--now", now))
        self.assertGreater(moved, 15)
        self.assertLess(self.value("SELECT count(*) FROM apiary.reading"), rows)
        steps = {each["details"]["step"] for each in self.json("history", "--kind", "relocate")["entries"]}
        self.assertIn("move rows of reading_2025_05", steps)

    def test_partitions_that_are_divided_move_with_their_own(self):
        later = "CREATE TABLE apiary.reading_2026 PARTITION OF apiary.reading FOR VALUES FROM ('2026-01-01') TO ('2027-01-01')"
        inner = "CREATE TABLE apiary.reading_2026_m2r0{0} PARTITION OF apiary.reading_2026 FOR VALUES WITH (MODULUS 2, REMAINDER {0})"
        self.fill(parts=[*WITHIN, later + " PARTITION BY HASH (hive_id)", *map(inner.format, range(2))])
        self.layout(
            PLACED.replace("catch_all = true\n", "")
            .replace("1 month", "1 year")
            .replace('ahead = "2 months"', 'ahead = "1 year"')
            .replace("12 months", "9 years")
            + 'within = { by = "hash", key = ["hive_id"], parts = 2 }\n'
        )
        proposed = self.json("tend", "--now", "2026-04-01", code=1)
        self.assertEqual(
            ["apiary.reading_2025"], [each["partition"] for each in proposed["actions"] if each["kind"] == "place"]
        )
        self.assertIn("not written as SQL", self.slabrow("tend", "--now", "2026-04-01", "--script", "-", code=2).stderr)
        kills = Kills(within_s=1)
        for now, place in (("2026-04-01", FAST), ("2026-09-01", COLD)):
            for _ in range(2):
                kills.kill(self.begin("tend", "--go", "--pretend", "--now", now))
            self.json("tend", "--go", "--pretend", "--now", now)
            self.assertEqual(([place], [place]), (self.lies("reading_2025_m2r00"), self.lies("reading_2025_m2r01")))

    def test_limits_hours_and_what_a_forecast_and_a_census_say(self):
        self.layout(PLACED + 'at_most_moved = "1MB"\nplace_hours = "22:00-05:00"\n')
        noon = ("--now", "2026-01-10T12:00+00:00")
        self.json("tend", *noon, "--go", "--pretend")
        waiting = self.json("tend", *noon)
        self.assertEqual(([], ["place_waits"]), (waiting["actions"], [each["code"] for each in waiting["findings"]]))
        self.assertIn("from 22:00 to 05:00", waiting["findings"][0]["text"])
        night = ("--now", "2026-01-10T23:30+00:00")
        self.json("tend", *night, "--go", "--pretend")
        moved = sum(self.lies(name) != ["pg_default"] for name in self.leaves())
        self.assertTrue(0 < moved < 10, moved)
        self.assertEqual(10 - moved, self.misplaced(*night))
        self.assertIn("lies in", self.slabrow("census", "apiary.reading", *night, code=1).stdout)
        forecast = self.json("forecast", "apiary.reading", *night)
        told = {each["name"]: each["tablespace"] for each in forecast["partitions"]}
        self.assertEqual(
            (COLD, FAST, None), (told["reading_2025_06"], told["reading_2025_09"], told["reading_2025_12"])
        )
        self.assertIn("By age: ", self.slabrow("forecast", "apiary.reading", *night).stdout)
        while self.json("tend", *night, "--go", "--pretend")["actions"]:
            pass
        self.assertEqual(0, self.misplaced(*night))

    def test_faults_of_the_layout_and_a_tablespace_that_is_gone(self):
        for text, words in (
            ('place = [{ after = "2 months" }]', "has two keys"),
            ('place = [{ after = "2 months", elsewhere = "attic" }]', "no server is called 'attic'"),
            (
                'place = [{ after = "2 months", tablespace = "a" }, { after = "1 month", tablespace = "b" }]',
                "youngest first",
            ),
            ('place = [{ after = 5, tablespace = "a" }]', "in time, or in keys"),
            ('place_hours = "01:00-05:00"', "belongs to `place`"),
            ('place = [{ after = "1 month", tablespace = "a" }]\nplace_hours = "25:00-05:00"', "are no hours"),
            ('place = [{ after = "1 month", tablespace = "a" }]\nat_most_moved = "much"', "is not a size"),
        ):
            self.layout(PLACED.split("place =")[0] + text + "\n")
            self.assertIn(words, self.slabrow("tend", "--now", "2026-01-10", code=2).stderr)
        self.layout(PLACED.replace('"fast"', '"gone"'))
        done = self.json("tend", "--now", "2026-01-10", "--go", "--pretend", code=4)
        self.assertIn("there is no tablespace gone", str(done["errors"]) + str(done["actions"]))
        self.assertIn([COLD], [self.lies("reading_2025_06")])
