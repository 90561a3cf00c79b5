"""Conversion of a table in use, against real servers: writers go on all the time, and a twin knows what must be there."""

import os
import re
import signal
import threading
import time
from contextlib import contextmanager

import psycopg

from tests.busy import DIFFERENCES, SCHEMA, TABLE, TWIN, writers
from tests.support import DatabaseTest, run

NOW = ("--now", "2026-03-01")
MONTHS = """[[layout]]
table = "apiary.reading"
by = "range"
key = ["taken_at"]
span = "1 month"
from = 2025-01-01
ahead = "3 months"
catch_all = true
"""
HASHED = '[[layout]]\ntable = "apiary.reading"\nby = "hash"\nkey = ["hive_id"]\nparts = 5\n'
WITHIN = MONTHS + 'within = { by = "hash", key = ["hive_id"], parts = 2 }\n'
# A table with all that can belong to one.
RICH = """
CREATE ROLE {role} ; CREATE SCHEMA "Öl";
CREATE TABLE apiary.hive (hive_id int PRIMARY KEY); INSERT INTO apiary.hive SELECT generate_series(0, 9);
CREATE TABLE apiary.reading (gone int, reading_id bigint GENERATED ALWAYS AS IDENTITY (INCREMENT BY 3), hive_id int NOT NULL
    CONSTRAINT "of a hive" REFERENCES apiary.hive ON DELETE CASCADE, taken_at timestamptz NOT NULL, "Wéight %" numeric
    CONSTRAINT heavy CHECK ("Wéight %" > 0), note text COLLATE "C" DEFAULT 'none', more jsonb,
    twice int GENERATED ALWAYS AS (hive_id * 2) STORED, PRIMARY KEY (reading_id), UNIQUE (reading_id, taken_at));
ALTER TABLE apiary.reading DROP COLUMN gone, ALTER COLUMN note SET STORAGE EXTERNAL, ALTER COLUMN hive_id SET STATISTICS 50,
    SET (fillfactor = 90);
CREATE INDEX "reading %s idx" ON apiary.reading (hive_id) INCLUDE ("Wéight %") WHERE hive_id > 1;
CREATE INDEX ON apiary.reading (lower(left(note, 20)));
CREATE STATISTICS apiary.together (ndistinct) ON hive_id, note FROM apiary.reading;
COMMENT ON TABLE apiary.reading IS 'it''s'; COMMENT ON CONSTRAINT heavy ON apiary.reading IS 'not light';
COMMENT ON COLUMN apiary.reading.note IS 'what'; COMMENT ON STATISTICS apiary.together IS 'both';
GRANT SELECT, INSERT ON apiary.reading TO {role}; GRANT UPDATE (note) ON apiary.reading TO {role} WITH GRANT OPTION;
GRANT USAGE ON SEQUENCE apiary.reading_reading_id_seq TO {role};
CREATE VIEW "Öl"."the view" WITH (security_barrier = true) AS SELECT reading_id, hive_id FROM apiary.reading WHERE hive_id > 3;
CREATE VIEW "Öl".over AS SELECT count(*) FROM "Öl"."the view";
CREATE FUNCTION apiary.atomic() RETURNS bigint LANGUAGE sql BEGIN ATOMIC SELECT count(*) FROM apiary.reading; END;
CREATE FUNCTION apiary.textual() RETURNS bigint LANGUAGE plpgsql AS $$ BEGIN RETURN (SELECT count(*) FROM apiary.reading); END $$;
CREATE TABLE apiary.seen (what text);
CREATE FUNCTION apiary.see() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO apiary.seen VALUES (TG_OP); RETURN NEW; END $$;
CREATE TRIGGER always AFTER INSERT OR UPDATE ON apiary.reading FOR EACH ROW WHEN (NEW.hive_id > 5) EXECUTE FUNCTION apiary.see();
ALTER TABLE apiary.reading ENABLE ALWAYS TRIGGER always;
CREATE TRIGGER off BEFORE DELETE ON apiary.reading FOR EACH STATEMENT EXECUTE FUNCTION apiary.see();
ALTER TABLE apiary.reading DISABLE TRIGGER off;
CREATE POLICY own ON apiary.reading FOR SELECT TO {role} USING (hive_id < 5); ALTER TABLE apiary.reading ENABLE ROW LEVEL SECURITY;
ALTER TABLE apiary.reading REPLICA IDENTITY FULL;
CREATE PUBLICATION {role}_out FOR TABLE apiary.reading (reading_id, hive_id) WHERE (hive_id > 2)
    WITH (publish = 'insert');
CREATE TABLE apiary.alarm (reading_id bigint, taken_at timestamptz,
    CONSTRAINT of_a_reading FOREIGN KEY (reading_id, taken_at) REFERENCES apiary.reading (reading_id, taken_at) ON UPDATE CASCADE);
INSERT INTO apiary.reading (hive_id, taken_at, "Wéight %", note, more)
    SELECT n % 10, '2025-01-01'::timestamptz + n * interval '1 day', n, repeat(md5(n::text), 300), '{{"a": 1}}' FROM generate_series(1, 400) n;
INSERT INTO apiary.alarm SELECT reading_id, taken_at FROM apiary.reading WHERE hive_id = 4;
"""
# What all that is, as the catalogue spells it, without what must change: unique keys take in the partition key.
BELONGS = """
    SELECT 'column', attname || ' ' || format_type(atttypid, atttypmod) || attnotnull || attidentity::text || attgenerated::text || attstorage::text
           || coalesce(pg_get_expr(adbin, adrelid), '') || coalesce(attacl::text, '') || attcollation::regcollation
           || coalesce(col_description(attrelid, attnum), '') || coalesce(attstattarget, -1)
      FROM pg_attribute LEFT JOIN pg_attrdef ON adrelid = attrelid AND adnum = attnum
      WHERE attrelid = 'apiary.reading'::regclass AND attnum > 0 AND NOT attisdropped
    UNION ALL SELECT 'constraint', conname || replace(pg_get_constraintdef(oid), ' NOT VALID', '') || convalidated
           || coalesce(obj_description(oid, 'pg_constraint'), '')
      FROM pg_constraint WHERE (conrelid = 'apiary.reading'::regclass AND contype IN ('c', 'f'))
      OR (confrelid = 'apiary.reading'::regclass AND conparentid = 0)
    UNION ALL SELECT 'index', replace(indexdef, ' ONLY ', ' ') FROM pg_indexes WHERE tablename = 'reading' AND indexdef !~ 'UNIQUE'
    UNION ALL SELECT 'trigger', pg_get_triggerdef(oid) || tgenabled::text FROM pg_trigger
      WHERE tgrelid = 'apiary.reading'::regclass AND NOT tgisinternal AND tgname !~ 'slabrow'
    UNION ALL SELECT 'policy', policyname || roles::text || cmd || qual FROM pg_policies WHERE tablename = 'reading'
    UNION ALL SELECT 'table', relacl::text || relrowsecurity || relforcerowsecurity || obj_description(oid, 'pg_class') || relowner
      FROM pg_class WHERE oid = 'apiary.reading'::regclass
    UNION ALL SELECT 'statistics', pg_get_statisticsobjdef(oid) || obj_description(oid, 'pg_statistic_ext') FROM pg_statistic_ext
      WHERE stxrelid = 'apiary.reading'::regclass
    UNION ALL SELECT 'publication', pubname || tablename || attnames::text || rowfilter FROM pg_publication_tables
      WHERE schemaname = 'apiary'
    UNION ALL SELECT 'sequence', pg_get_serial_sequence('apiary.reading', 'reading_id') || seqincrement || relacl::text
      FROM pg_sequence JOIN pg_class ON oid = seqrelid
      WHERE oid = pg_get_serial_sequence('apiary.reading', 'reading_id')::regclass
    UNION ALL SELECT 'view', viewname || definition FROM pg_views WHERE schemaname = 'Öl'
    UNION ALL SELECT 'view', relname || reloptions::text FROM pg_class WHERE relname = 'the view'
    ORDER BY 1, 2"""


class LiveTest(DatabaseTest):
    ROWS = 60_000

    def setUp(self):
        super().setUp()
        self.layout(MONTHS)

    def fill(self, rows=None):
        self.sql(SCHEMA.format(rows=rows or self.ROWS))

    def go(self, *options, code=0):
        return self.json("convert", *options, "--go", *NOW, code=code)

    def assert_same(self, made=()):
        self.assertEqual([], [str(error) for each in made for error in each.errors][:3])
        self.assertEqual(0, self.value(DIFFERENCES))

    def state(self):
        return self.sql("SELECT state, ended IS NOT NULL FROM slabrow.reshaping ORDER BY job DESC LIMIT 1")[0]

    def left_behind(self):
        """Whatever of Slabrow's own is still there: tables, functions and triggers."""
        return self.sql(
            "SELECT relname FROM pg_class WHERE relname ~ '^(log|back)_[0-9]|_incoming|_before' "
            "UNION ALL SELECT proname FROM pg_proc WHERE proname ~ '^(log|back|guard)_[0-9]' "
            "UNION ALL SELECT tgname FROM pg_trigger WHERE tgname ~ '^slabrow'"
        )

    @contextmanager
    def open_transaction(self, *statements, isolation="REPEATABLE READ"):
        """Another session in a transaction that has seen the database as it is now."""
        with psycopg.connect(self.dsn) as other:
            other.execute(f"SET TRANSACTION ISOLATION LEVEL {isolation}")
            for statement in statements:
                other.execute(statement)
            yield other


class CycleTest(LiveTest):
    """There, back, there again, and let go, under writers of all kinds."""

    def test_it_goes_there_and_back_under_writers_of_all_kinds(self):
        self.fill()
        others = {"in_replica": True}, {"isolation": "SERIALIZABLE"}
        with (
            writers(self.dsn, self.ROWS, a_second=300) as made,
            writers(self.dsn, 10, number=1, a_second=50, **others[0]) as replica,
            writers(self.dsn, 10, number=1, a_second=50, **others[1]) as serial,
        ):
            for each, offset in ((replica[0], 20), (serial[0], 40)):  # rows of their own
                each.ids, each.next_id = [], 10_000_000 * offset
                each.ids = [each.new(keep=False)]
            done = self.go()
            self.assertEqual(("swapped", True), (done["phase"], all(each["same"] for each in done["compared"])))
            self.assertGreater(done["longest_lock_ms"], 0)
            time.sleep(0.3)
            self.assertEqual("undone", self.go("--undo")["phase"])
            self.assertEqual(
                "r", self.value("SELECT relkind::text FROM pg_class WHERE oid = 'apiary.reading'::regclass")
            )
            self.go()
            time.sleep(0.3)
            self.json("tend", "--go", *NOW)
            self.assertEqual("done", self.go("--drop-old")["phase"])
        every = [*made, *replica, *serial]
        self.assertGreater(min(each.made for each in every), 10)
        self.assert_same(every)
        self.assertEqual([], self.left_behind())
        steps = {each["details"]["step"] for each in self.json("history", "--most", "99")["entries"]}
        self.assertLessEqual({"copy rows", "build keys and indexes", "compare", "swap names", "swap back"}, steps)

    def test_a_partitioned_table_gets_another_layout(self):
        self.fill(30_000)
        with writers(self.dsn, 30_000, a_second=200) as made:
            for text, leaves in ((MONTHS, 18), (HASHED, 5), (WITHIN, 36), (MONTHS.replace("1 month", "7 days"), 75)):
                self.layout(text)
                self.assertIn(self.go()["phase"], ("swapped",))
                self.go("--undo")
                self.go()
                self.go("--drop-old")
                count = self.value("SELECT count(*) FROM pg_partition_tree('apiary.reading') WHERE isleaf")
                self.assertLessEqual(abs(count - leaves), 1, text)
        self.assert_same(made)
        self.assertEqual([], self.left_behind())
        self.assertIn("already", self.slabrow("convert", *NOW, code=4).stderr)


class CycleOn16Test(CycleTest):
    version = 16


class CycleOn15Test(CycleTest):
    version = 15


class BelongingsTest(LiveTest):
    def test_everything_that_belongs_to_it_is_there_afterwards_and_after_the_way_back(self):
        role = f"{self.database}_role"
        self.sql("CREATE SCHEMA apiary")
        self.sql(RICH.format(role=role))
        before, rows = self.sql(BELONGS), self.sql("SELECT to_jsonb(r) FROM apiary.reading r ORDER BY reading_id")
        with psycopg.connect(self.dsn, autocommit=True, prepare_threshold=0) as application:
            asked = ('SELECT count(*) FROM "Öl"."the view"', "SELECT apiary.textual()", "SELECT apiary.atomic()",
                     "SELECT * FROM apiary.reading WHERE hive_id = %s ORDER BY 1", 'SELECT * FROM "Öl".over')  # fmt: skip
            answers = [application.execute(sql, [4] if "%s" in sql else None).fetchall() for sql in asked]
            number = self.value("SELECT max(reading_id) FROM apiary.reading")
            for what in ((), ("--undo",), ()):
                self.go(*what)
                self.assertEqual(before, self.sql(BELONGS), what)
                self.assertEqual(rows, self.sql("SELECT to_jsonb(r) FROM apiary.reading r ORDER BY reading_id"))
                again = [application.execute(sql, [4] if "%s" in sql else None).fetchall() for sql in asked]
                self.assertEqual(answers, again)
            self.sql("INSERT INTO apiary.reading (hive_id, taken_at, \"Wéight %\") VALUES (9, '2025-05-05', 1)")
            self.assertEqual(number + 3, self.value("SELECT max(reading_id) FROM apiary.reading"))
            leaves = (
                "SELECT count(*) FROM pg_class JOIN pg_partition_tree('apiary.reading') ON relid = oid WHERE isleaf"
            )
            self.assertEqual(18, self.value(leaves + " AND relreplident = 'f' AND reloptions = '{fillfactor=90}'"))
            self.assertEqual(161, self.value("SELECT count(*) FROM apiary.seen"))  # the copy has set off none
            with self.assertRaises(psycopg.errors.ForeignKeyViolation):
                self.sql("INSERT INTO apiary.alarm VALUES (-1, '2025-01-01')")
            self.sql("DELETE FROM apiary.hive WHERE hive_id = 9")
            self.assertEqual(0, self.value("SELECT count(*) FROM apiary.reading WHERE hive_id = 9"))
        self.go("--undo")
        self.assertEqual(0, self.value("SELECT count(*) FROM apiary.reading WHERE hive_id = 9"))
        self.assertEqual([], self.left_behind())

    def test_what_cannot_come_along_is_refused_with_the_choices(self):
        self.fill(100)
        for sql, undo, hint in [
            ("CREATE MATERIALIZED VIEW apiary.m AS TABLE apiary.reading", "DROP MATERIALIZED VIEW apiary.m", "apiary.m"),
            ("CREATE RULE r AS ON DELETE TO apiary.reading DO ALSO NOTHING", "DROP RULE r ON apiary.reading", "rule r"),
            ("CREATE TABLE apiary.child (reading_id bigint REFERENCES apiary.reading)", "DROP TABLE apiary.child",
             "give apiary.child the column taken_at too"),
            ("CREATE TABLE apiary.child (r apiary.reading)", "DROP TABLE apiary.child", "column of its row type"),
            ("ALTER TABLE apiary.reading ALTER taken_at DROP NOT NULL; UPDATE apiary.reading SET taken_at = NULL "
             "WHERE reading_id = 1", "UPDATE apiary.reading SET taken_at = now() WHERE taken_at IS NULL", "have NULL in"),
            ("CREATE TABLE apiary.reading_incoming ()", "DROP TABLE apiary.reading_incoming", "reading_incoming"),
            ("ALTER TABLE apiary.reading DROP CONSTRAINT reading_pkey",
             "ALTER TABLE apiary.reading ADD PRIMARY KEY (reading_id)", "--way locked"),
        ]:  # fmt: skip
            with self.subTest(sql):
                self.sql(sql)
                self.assertIn(hint, self.slabrow("convert", "--go", *NOW, code=4).stderr)
                self.sql(undo)
        self.layout(MONTHS.replace("1 month", "1 day").replace("2025-01-01", "2016-01-01"))
        self.assertIn("too many locks", self.slabrow("convert", "--go", *NOW, code=4).stderr)
        self.layout(MONTHS)
        self.sql("GRANT USAGE ON SCHEMA apiary TO reader; GRANT ALL ON ALL TABLES IN SCHEMA apiary TO reader")
        error = self.slabrow("convert", "--go", *NOW, dsn=self.dsn_as("reader"), code=4).stderr
        for right in ("to be the owner of apiary.reading", "GRANT CREATE ON SCHEMA apiary TO reader",
                      f"GRANT CREATE ON DATABASE {self.database} TO reader"):  # fmt: skip
            self.assertIn(right, error)
        self.sql(
            f"GRANT CREATE ON DATABASE {self.database} TO reader; ALTER TABLE apiary.reading OWNER TO reader; GRANT CREATE ON SCHEMA apiary TO reader"
        )
        self.slabrow("convert", "--go", *NOW, dsn=self.dsn_as("reader"))  # no superuser
        self.assertEqual("reader", self.value("SELECT tableowner FROM pg_tables WHERE tablename = 'reading'"))


class MidwayTest(LiveTest):
    """What happens to the table while its conversion is paused before the swap, or while it runs."""

    def paused(self):
        self.fill(5_000)
        return self.go("--pause-before-swap")

    def test_it_pauses_and_what_comes_meanwhile_is_brought_over(self):
        paused = self.paused()
        self.assertEqual(("following", 0), (paused["phase"], paused["changes_waiting"]))
        for table in ("reading", "twin"):
            self.sql(f"UPDATE apiary.{table} SET taken_at = 'infinity' WHERE reading_id < 10;"
                     f"UPDATE apiary.{table} SET taken_at = '-infinity', reading_id = -reading_id WHERE reading_id = 20;"
                     f"DELETE FROM apiary.{table} WHERE reading_id BETWEEN 30 AND 2500")  # fmt: skip
        status = self.json("convert", "--status")
        self.assertEqual(("following", 2481), (status["phase"], status["changes_waiting"]))
        self.assertIn("conversion_under_way", self.slabrow("tend", *NOW).stdout)
        self.layout(HASHED)
        self.assertIn("another layout", self.slabrow("convert", "--go", *NOW, code=4).stderr)
        self.layout(MONTHS)
        self.go()
        self.assert_same()

    def test_what_would_be_lost_silently_ends_the_conversion_with_a_word(self):
        self.paused()
        self.sql("ALTER TABLE apiary.reading ADD COLUMN late int")
        self.assertIn("was altered since", self.slabrow("convert", "--go", *NOW, code=4).stderr)
        self.assertEqual("given-up", self.go("--give-up")["phase"])
        self.assertEqual([], self.left_behind())
        self.sql("ALTER TABLE apiary.twin ADD COLUMN late int")
        self.go()
        self.assert_same()

    def test_a_table_that_is_emptied_or_rewritten_midway_is_copied_again(self):
        for what in ("TRUNCATE apiary.reading; TRUNCATE apiary.twin", "VACUUM FULL apiary.reading",
                     "CREATE VIEW apiary.late AS TABLE apiary.reading"):  # fmt: skip
            with self.subTest(what):
                self.sql("DROP SCHEMA IF EXISTS apiary, slabrow CASCADE")
                self.paused()
                for statement in what.split("; "):
                    self.sql(statement)
                for table in ("reading", "twin"):
                    self.sql(
                        f"INSERT INTO apiary.{table} (reading_id, hive_id, taken_at) VALUES (90001, 1, '2025-05-05')"
                    )
                self.go()
                self.assert_same()
                for table in ("reading", "twin"):  # and on the way back
                    self.sql(f"TRUNCATE apiary.{table}")
                    self.sql(f"INSERT INTO apiary.{table} (reading_id, hive_id, taken_at) VALUES (1, 1, '2025-05-05')")
                self.go("--undo")
                self.assert_same()

    def test_rows_that_exchange_a_second_unique_value_follow(self):
        self.fill(5_000)
        self.sql("ALTER TABLE apiary.reading ADD COLUMN place bigint; UPDATE apiary.reading SET place = reading_id;"
                 "ALTER TABLE apiary.reading ADD UNIQUE (place, taken_at); ALTER TABLE apiary.twin ADD COLUMN place bigint;"
                 "UPDATE apiary.twin SET place = reading_id; UPDATE apiary.reading SET taken_at = '2025-03-03';"
                 "UPDATE apiary.twin SET taken_at = '2025-03-03'")  # fmt: skip
        self.go("--pause-before-swap")
        for table in ("reading", "twin"):  # each row takes the place of the one before: more than a batch of them
            self.sql(f"UPDATE apiary.{table} SET place = -place; UPDATE apiary.{table} SET place = -place - 1")
        self.go()
        self.assert_same()

    def test_changes_come_over_by_index_and_the_comparison_sorts_nothing(self):
        self.paused()
        self.sql("UPDATE apiary.reading SET hive_id = 7 WHERE reading_id <= 3000; UPDATE apiary.twin SET hive_id = 7 "
                 "WHERE reading_id <= 3000")  # fmt: skip
        by_purpose = {
            each["purpose"]: each["statements"] for each in self.json("convert", *NOW, code=1)["transactions"]
        }
        batch, compare = by_purpose["bring changes over"], by_purpose["compare the new table with the old one"]
        with psycopg.connect(self.dsn) as other:
            for statement in (*batch[:5], "SET LOCAL enable_seqscan = off"):
                other.execute(statement)
            for statement in batch[5:7]:
                plan = "\n".join(row[0] for row in other.execute("EXPLAIN " + statement))
                self.assertNotRegex(plan, r"Hash Join|Merge Join|Seq Scan on reading", plan)
            [query] = [statement for statement in compare if "hash_record" in statement]
            other.execute("SET LOCAL enable_seqscan = on")
            plan = "\n".join(row[0] for row in other.execute("EXPLAIN " + query))
            self.assertNotRegex(plan, r"Sort|GroupAggregate", plan)
        self.go()
        self.assert_same()

    def test_a_horizon_that_another_database_holds_back_makes_no_row_double(self):
        with psycopg.connect(self.server.dsn) as elsewhere:
            elsewhere.execute("SELECT pg_current_xact_id()")
            self.fill(20_000)  # all of them younger than the horizon
            with writers(self.dsn, 20_000, a_second=300) as made:
                self.go()
        self.assert_same(made)

    def test_a_recorder_that_is_switched_off_ends_the_conversion(self):
        self.paused()
        self.sql("ALTER TABLE apiary.reading DISABLE TRIGGER ALL; DELETE FROM apiary.reading WHERE reading_id = 5;"
                 "ALTER TABLE apiary.reading ENABLE TRIGGER USER")  # fmt: skip
        self.assertIn("no longer recorded", self.slabrow("convert", "--go", *NOW, code=4).stderr)
        self.go("--give-up")
        self.paused_again("CREATE INDEX late ON apiary.reading (weight)")

    def paused_again(self, statement):
        self.go("--pause-before-swap")
        self.sql(statement)
        self.assertIn("was altered", self.slabrow("convert", "--go", *NOW, code=4).stderr)
        self.sql("DROP INDEX apiary.late")
        self.go()

    def test_a_snapshot_from_before_the_copy_is_waited_for(self):
        self.fill(5_000)
        with self.open_transaction("SELECT 1"):
            error = self.slabrow("convert", "--go", "--wait-for-snapshots", "500ms", *NOW, code=5).stderr
            self.assertIn("would find the new table empty", error)
            self.assertEqual("following", self.json("convert", "--status")["phase"])
            with self.open_transaction("SELECT count(*) FROM apiary.reading", isolation="READ COMMITTED") as reader:
                threading.Timer(1.0, reader.commit).start()  # a reader that holds the table is waited for as well
                self.go("--wait-for-snapshots", "0")
        self.assert_same()

    def test_a_writer_whose_snapshot_is_older_than_the_swap_is_told_to_try_again(self):
        """It would not find the last rows that were brought over, and change nothing without a word."""
        self.fill(1_000)
        self.go("--pause-before-swap")
        adding = "INSERT INTO {} (reading_id, hive_id, taken_at) VALUES (%s, 1, '2025-11-11')"
        changing = "UPDATE apiary.reading SET weight = 7 WHERE reading_id = %s"
        for number, what, state in ((5_000, (), "swapped"), (6_000, ("--undo",), "undone")):
            for table in (TABLE, TWIN):
                self.sql(adding.format(table) % number)
            with self.open_transaction("SELECT 1") as old, self.open_transaction() as simple:
                process = self.begin("convert", *what, "--go", *NOW)
                self.wait_until(f"SELECT state = '{state}' FROM slabrow.reshaping")
                with self.assertRaisesRegex(psycopg.errors.SerializationFailure, "replaced after this transaction"):
                    old.execute(changing, [number])
                simple.execute(changing, [number])
            self.assertEqual(0, process.wait(60), process.communicate())
            self.sql(f"UPDATE {TWIN} SET weight = 7 WHERE reading_id = {number}")
        self.assert_same()
        self.assertEqual([], self.left_behind())

    def test_two_rows_with_the_old_key_cannot_go_back_and_are_named(self):
        self.fill(100)
        self.go()
        self.sql("INSERT INTO apiary.reading (reading_id, hive_id, taken_at) VALUES (7, 1, '2025-11-11')")
        self.assertIn("Key (reading_id)=(7)", self.slabrow("convert", "--undo", "--go", code=4).stderr)
        self.sql("DELETE FROM apiary.reading WHERE reading_id = 7 AND taken_at = '2025-11-11'")
        self.go("--undo")
        self.assert_same()

    def test_odd_tables(self):
        wide = ", ".join(f"c{n} int" for n in range(500))
        for name, columns, filling in [
            ('"Old ""Hives"" %s"', '"the Ïd" text COLLATE "C" PRIMARY KEY, taken_at timestamptz NOT NULL',
             "SELECT 'é' || n, '2025-01-01'::timestamptz + n * interval '1 day'"),
            ("apiary.wide", f"reading_id int PRIMARY KEY, taken_at timestamptz NOT NULL, {wide}",
             "SELECT n, '2025-06-01'"),
            ("apiary.empty", "a uuid, b int, taken_at timestamptz, PRIMARY KEY (a, b)", "SELECT NULL::uuid, 1, now()"),
            ("apiary.nulls", "reading_id int NOT NULL UNIQUE, taken_at timestamptz, j json",
             "SELECT n, CASE WHEN n % 2 = 0 THEN '2025-02-02'::timestamptz END, '{\"a\": 1}'::json"),
        ]:  # fmt: skip
            with self.subTest(name):
                self.sql("CREATE SCHEMA IF NOT EXISTS apiary")
                self.sql(f"CREATE TABLE {name} ({columns})")
                if "wide" in name:
                    self.sql("ALTER TABLE apiary.wide REPLICA IDENTITY USING INDEX wide_pkey")
                self.sql(f"INSERT INTO {name} {filling} FROM generate_series(1, {0 if 'empty' in name else 50}) n")
                toml = name.replace("\\", "\\\\").replace('"', '\\"')
                self.layout(MONTHS.replace("apiary.reading", toml))
                self.go("--pause-before-swap")
                self.sql(f"UPDATE {name} SET taken_at = '2025-04-04' WHERE ctid = '(0,2)'")
                before = self.sql(f"SELECT r::text FROM {name} r ORDER BY 1")
                for what in ((), ("--undo",), (), ("--drop-old",)):
                    self.go(*what)
                    self.assertEqual(before, self.sql(f"SELECT r::text FROM {name} r ORDER BY 1"))


class KillTest(LiveTest):
    """Killed in each phase: the same command goes on, and nothing is lost."""

    MARK = "EXISTS (SELECT FROM slabrow.reshaping_mark WHERE what = '{}')"
    PIECES = "(SELECT count(*) FILTER (WHERE {}) FROM slabrow.reshaping_piece)"
    PHASES = {
        "making": "SELECT EXISTS (SELECT FROM slabrow.reshaping)",
        "copying": f"SELECT {PIECES.format('is_done')} > 1 AND {PIECES.format('NOT is_done')} > 1",
        "indexing": f"SELECT {MARK.format('watched')} AND {PIECES.format('NOT is_done')} = 0 AND EXISTS (SELECT "
        "FROM pg_stat_activity WHERE state = 'active' AND query ~ 'ADD PRIMARY KEY' AND query !~ 'pg_stat_activity')",
        "following": f"SELECT {MARK.format('way back')}",
        "comparing": "SELECT EXISTS (SELECT FROM pg_stat_activity WHERE state = 'active' AND query ~ 'AS old_rows' "
        "AND query !~ 'pg_stat_activity')",
        "waiting": "SELECT EXISTS (SELECT FROM slabrow.reshaping WHERE compared IS NOT NULL)",
    }

    def killed_when(self, query, *arguments):
        """Kills the program as soon as a query says so, and asserts that it was at work then."""
        process = self.begin("convert", *arguments)
        with psycopg.connect(self.dsn, autocommit=True) as watcher:
            while process.poll() is None:
                try:
                    if watcher.execute(query).fetchone()[0]:
                        break
                except psycopg.errors.UndefinedTable:
                    pass
        process.kill()
        _, said = process.communicate()
        self.assertEqual(-signal.SIGKILL, process.returncode, f"it had ended before: {query}\n{said}")

    def test_in_each_phase(self):
        self.fill(400_000)
        go = ("--go", "--speed", "gentle", *NOW)
        with writers(self.dsn, 400_000, a_second=200) as made, self.open_transaction("SELECT 1") as snapshot:
            for phase, query in self.PHASES.items():
                with self.subTest(phase):
                    self.killed_when(query, *go)
                if phase == "making":  # a look at it changes nothing; what was made is taken away
                    self.json("convert", *NOW, code=1)
                    self.assertEqual("given-up", self.go("--give-up")["phase"])
            snapshot.rollback()
            self.go()
            undoing = "SELECT EXISTS (SELECT FROM slabrow.reshaping WHERE state = 'undone' AND ended IS NULL)"
            self.killed_when(undoing, "--undo", "--go")
            self.go("--undo")
            self.go()
            self.killed_when(
                "SELECT EXISTS (SELECT FROM slabrow.reshaping_mark WHERE what = 'silenced')", "--drop-old", "--go"
            )
            self.go("--drop-old")
        self.assert_same(made)
        self.assertEqual([], self.left_behind())

    def test_the_server_dies_midway(self):
        self.fill(200_000)
        with writers(self.dsn, 200_000, a_second=200) as made:
            process = self.begin("convert", "--go", "--speed", "gentle", *NOW)
            self.wait_until("SELECT to_regclass('slabrow.reshaping_piece') IS NOT NULL")
            self.wait_until(self.PHASES["copying"])
            # As after an immediate shutdown: all sessions end, and the server recovers from its log.
            os.kill(
                self.value("SELECT pid FROM pg_stat_activity WHERE query ~ 'reshaping_piece' LIMIT 1"), signal.SIGKILL
            )
            _, said = process.communicate(timeout=60)
            self.assertEqual(5, process.returncode, said)
            end = time.monotonic() + 60
            while time.monotonic() < end:
                try:
                    self.connection = psycopg.connect(self.dsn, autocommit=True)
                    break
                except psycopg.OperationalError:
                    time.sleep(0.1)
            self.go()
            self.go("--undo")
        self.assertGreater(min(each.lost_connections for each in made), 0)
        self.assert_same(made)

    def test_ctrl_c_stops_between_two_batches(self):
        self.fill(300_000)
        process = self.begin("convert", "--go", "--speed", "20000", *NOW)
        self.wait_until("SELECT to_regclass('slabrow.reshaping_piece') IS NOT NULL")
        self.wait_until(self.PHASES["copying"])
        process.send_signal(signal.SIGINT)
        _, said = process.communicate(timeout=20)
        self.assertEqual(5, process.returncode, said)
        self.assertNotIn("Traceback", said)
        status = self.json("convert", "--status")
        self.assertTrue(status["phase"] == "copying" and 0 < status["rows_copied"] < 300_000, status)
        self.assertIn("rows are being copied", self.slabrow("convert", "--status").stdout)
        self.go("--give-up")
        self.assertEqual([], self.left_behind())
        self.assert_same()

    def test_twice_at_once_one_works_and_the_other_says_so(self):
        self.fill(200_000)
        first = self.begin("convert", "--go", "--speed", "2000", *NOW)
        self.wait_until("SELECT to_regclass('slabrow.reshaping_piece') IS NOT NULL")
        self.wait_until(self.PHASES["copying"])
        began = time.monotonic()
        second = run("convert", "--go", *NOW, env={"SLABROW_DSN": self.dsn}, cwd=self.folder)
        self.assertEqual(4, second.returncode)
        self.assertIn("another slabrow is working", second.stderr)
        # The table was never analysed, and the limit holds from the first piece on: a few pieces are ahead of it.
        copied = self.value("SELECT coalesce(sum(row_count), 0) FROM slabrow.reshaping_piece WHERE is_done")
        self.assertLess(copied, 2_000 * (time.monotonic() - began + 5) + 40_000)
        first.kill()
        first.communicate()


class OtherWaysTest(LiveTest):
    def test_a_table_is_taken_in_as_it_is(self):
        self.fill(20_000)
        early = ("--way", "as-is", "--now", "2025-12-28")
        with writers(self.dsn, 20_000, a_second=200) as made:
            self.assertIn("boundary", self.slabrow("convert", *early, "--to", "2026-01-17", code=2).stderr)
            self.assertIn("leaves rows outside", self.slabrow("convert", *early, "--to", "2025-02-01", code=4).stderr)
            proposed = self.json("convert", *early, code=1)
            self.assertEqual(["open_below = true"], proposed["layout_lines"][1:])
            self.killed_midway("convert", *early, "--go")
            done = self.json("convert", *early, "--go")
        self.assertEqual("done", done["phase"])
        self.assert_same(made)
        first = self.json("census", "--exact")["partitions"][0]
        self.assertEqual((None, self.value("SELECT count(*) FROM apiary.twin")), (first["from"], first["rows"]))
        self.layout(MONTHS.replace("from = 2025-01-01", "\n".join(done["layout_lines"])))
        self.assertIn("nothing to do", self.slabrow("tend", "--now", "2025-12-28").stdout)
        self.layout(MONTHS)  # and the wide first partition is divided
        self.go()
        self.go("--drop-old")
        self.assert_same()
        with self.assertRaises(psycopg.errors.UniqueViolation):
            self.sql("INSERT INTO apiary.reading (reading_id, hive_id, taken_at) SELECT reading_id, 1, taken_at "
                     "FROM apiary.reading LIMIT 1")  # fmt: skip

    def test_taking_in_is_refused_where_it_cannot_be_and_can_be_given_up(self):
        self.fill(2_000)
        early = ("--way", "as-is", "--now", "2025-12-28")
        for text, sql, undo, hint in [
            (HASHED, "SELECT 1", "SELECT 1", "use a range layout"),
            (WITHIN, "SELECT 1", "SELECT 1", "use a range layout"),
            (MONTHS, "UPDATE apiary.reading SET taken_at = 'infinity' WHERE reading_id = 1",
             "UPDATE apiary.reading SET taken_at = '2025-01-01' WHERE reading_id = 1", "1 infinite times"),
            (MONTHS, "CREATE MATERIALIZED VIEW apiary.m AS TABLE apiary.reading", "DROP MATERIALIZED VIEW apiary.m", "apiary.m"),
        ]:  # fmt: skip
            with self.subTest(hint):
                self.layout(text)
                self.sql(sql)
                self.assertIn(hint, self.slabrow("convert", *early, "--go", code=4).stderr)
                self.sql(undo)
        self.layout(MONTHS)
        self.killed_midway("convert", *early, "--go")
        status = self.slabrow("convert", "--status").stdout
        self.assertIn("complete", status.replace("build keys and indexes", "complete"))
        self.assertIn("--way as-is", self.slabrow("convert", "--go", *NOW, code=4).stderr)
        with self.assertRaises(psycopg.errors.CheckViolation):  # the bound holds from the first lock on
            self.sql("INSERT INTO apiary.reading (hive_id, taken_at) VALUES (1, '2031-01-01')")
        proposed = self.json("convert", "--give-up", code=1)
        self.assertEqual(("give up", "proposed"), (proposed["doing"], proposed["state"]))
        self.assertEqual("given-up", self.go("--give-up")["phase"])
        self.assertEqual("given-up", self.go("--give-up")["phase"])  # again: there is nothing to do
        self.sql("INSERT INTO apiary.reading (hive_id, taken_at) VALUES (1, '2031-01-01')")
        self.assertEqual([], self.left_behind())
        self.assertEqual(
            0, self.value("SELECT count(*) FROM pg_class WHERE relname ~ '_built$' OR relname ~ '_first$'")
        )

    def test_a_table_of_numbers_is_taken_in_with_all_that_belongs_to_it(self):
        role = f"{self.database}_role"
        self.sql("CREATE SCHEMA apiary")
        self.sql(RICH.format(role=role))
        self.layout(MONTHS.replace('"taken_at"', '"reading_id"').replace('"1 month"', "1000").replace("2025-01-01", "0")
                    .replace('"3 months"', "2000"))  # fmt: skip
        before, rows = self.sql(BELONGS), self.sql("SELECT to_jsonb(r) FROM apiary.reading r ORDER BY reading_id")
        done = self.json("convert", "--way", "as-is", "--go", *NOW)
        self.assertEqual(["from = 3000", "open_below = true"], done["layout_lines"])
        self.assertEqual(before, self.sql(BELONGS))
        self.assertEqual(rows, self.sql("SELECT to_jsonb(r) FROM apiary.reading r ORDER BY reading_id"))
        self.sql("INSERT INTO apiary.reading OVERRIDING SYSTEM VALUE VALUES (3500, 8, '2025-05-05', 1)")
        held = self.sql("SELECT tableoid::regclass::text, count(*) FROM apiary.reading GROUP BY 1 ORDER BY 2")
        self.assertEqual([("apiary.reading_3000", 1), ("apiary.reading_until_3000", 400)], held)
        self.assertEqual(161, self.value("SELECT count(*) FROM apiary.seen"))
        with self.assertRaises(psycopg.errors.UniqueViolation):
            self.sql("INSERT INTO apiary.reading OVERRIDING SYSTEM VALUE VALUES (4, 8, '2025-05-05', 1)")

    def killed_midway(self, *arguments):
        """Killed while the new key is built: an invalid index is left, and built again."""
        with self.open_transaction("SELECT 1"):
            process = self.begin(*arguments)
            self.wait_until("SELECT count(*) > 0 FROM pg_index WHERE NOT indisvalid")
            process.kill()
            process.communicate()
            self.assertEqual(-signal.SIGKILL, process.returncode)

    def test_the_whole_as_scripts_for_psql(self):
        for files in (("1-copy", "2-follow", "3-swap", "4-undo"), ("1-copy", "give-up"),
                      ("1-copy", "2-follow", "3-swap", "5-let-go")):  # fmt: skip
            self.sql("DROP SCHEMA IF EXISTS apiary, slabrow CASCADE")
            self.fill(3_000)
            self.slabrow("convert", "--script", "by-hand", *NOW)
            with writers(self.dsn, 3_000, a_second=100) as made:
                for name in files:
                    for _ in range(2):  # a file that is run again does nothing twice
                        self.psql(f"by-hand/{name}.sql")
            self.assert_same(made)
            self.assertTrue(self.state()[1])
            self.assertEqual([], self.left_behind())
        self.assertEqual(
            18, self.value("SELECT count(*) FROM pg_inherits WHERE inhparent = 'apiary.reading'::regclass")
        )

    def test_what_the_new_key_breaks_is_said_and_tried(self):
        self.fill(100)
        self.sql(
            "CREATE FUNCTION apiary.put() RETURNS void LANGUAGE plpgsql AS $$ BEGIN INSERT INTO apiary.reading VALUES (1, 2, "
            "now()) ON CONFLICT (reading_id) DO NOTHING; EXCEPTION WHEN unique_violation THEN RAISE 'reading_pkey'; END $$"
        )
        cases = {
            "upsert": ("INSERT INTO apiary.reading (reading_id, hive_id, taken_at) VALUES ($1, 1, now()) ON CONFLICT "
                       "(reading_id) DO UPDATE SET hive_id = 2", "on_conflict", True),
            "named": ("INSERT INTO apiary.reading VALUES (1, 1, now()) ON CONFLICT ON CONSTRAINT reading_pkey DO NOTHING",
                      "on_conflict", False),
            "any": ("INSERT INTO apiary.reading VALUES (1, 1, now()) ON CONFLICT DO NOTHING", "on_conflict", False),
            "refers": ("CREATE TABLE x (r bigint REFERENCES apiary.reading)", "reference", True),
            "one": ("SELECT * FROM apiary.reading r WHERE r.reading_id = 7", "every_partition", False),
            "moves": ("UPDATE apiary.reading SET taken_at = now() WHERE taken_at = '2025-01-01'", "row_moves", False),
        }  # fmt: skip
        fine = ("SELECT 1 FROM apiary.reading WHERE taken_at = now() AND reading_id = 3; INSERT INTO apiary.reading VALUES "
                "(1, 1, now()) ON CONFLICT (reading_id, taken_at) DO NOTHING; nonsense here;")  # fmt: skip
        text = "".join(f"-- name: {name}\n{sql};\n" for name, (sql, _, _) in cases.items()) + fine
        (self.folder / "w.sql").write_text(text)
        found = self.json("convert", "--workload", "w.sql", *NOW, code=1)["breaks"]
        by_name = {each["name"]: (each["code"], each["fails"]) for each in found if each["name"] in cases}
        self.assertEqual({name: case[1:] for name, case in cases.items()}, by_name)
        self.assertEqual({*cases, "", "apiary.put()"}, {each["name"] for each in found})
        tried = {each["name"]: each["tried"] for each in found if each["code"] == "on_conflict"}
        self.assertTrue(re.search("no unique or exclusion constraint", tried["upsert"] + tried["apiary.put()"]))
        weighed = self.json("weigh", "--workload", "w.sql", *NOW)["candidates"]
        self.assertTrue(any("upsert fails" in text for each in weighed for text in each["obstacles"]))
