"""Conversions and builds of awkward tables: everything that belongs to a table is there afterwards, or it is refused."""

import threading
import time

import psycopg

from tests.support import DatabaseTest

NOW = ("--now", "2026-03-01")


def layout(table="apiary.log", **changes):
    keys = {"by": "range", "key": ["taken_at"], "span": "1 month", "ahead": "1 month", **changes}
    lines = [f"{key} = {value if key == 'from' else quoted(value)}" for key, value in keys.items() if value is not None]
    return "\n".join(["[[layout]]", f"table = {quoted(table)}", *lines]) + "\n"


def quoted(value):
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, list):
        return "[" + ", ".join(map(quoted, value)) + "]"
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {quoted(each)}" for key, each in value.items()) + " }"
    return str(value) if isinstance(value, int | float) else "'" + value + "'"


PLAIN = """
CREATE SCHEMA apiary;
CREATE TABLE apiary.log (log_id bigint PRIMARY KEY, taken_at timestamptz NOT NULL, note text);
INSERT INTO apiary.log SELECT n, '2025-12-01'::timestamptz + n * interval '3 hours', 'n' || n FROM generate_series(1, 700) n;
"""

AWKWARD = """
CREATE ROLE keeper_{db}; CREATE ROLE guest_{db}; CREATE SCHEMA apiary; GRANT ALL ON SCHEMA apiary TO keeper_{db};
CREATE DOMAIN apiary.grams AS numeric CHECK (VALUE >= 0);
CREATE TYPE apiary.mood AS ENUM ('calm', 'angry');
CREATE TABLE apiary.hive (hive_id int PRIMARY KEY);
INSERT INTO apiary.hive SELECT generate_series(0, 9);
CREATE TABLE apiary.log (
    "Log Id" bigint GENERATED ALWAYS AS IDENTITY (START 5000 INCREMENT 3), dropped int, serial_no serial,
    taken_at timestamptz(3) NOT NULL DEFAULT now(), hive_id int REFERENCES apiary.hive ON DELETE CASCADE,
    honey apiary.grams DEFAULT 1, mood apiary.mood, tags text[] DEFAULT '{{}}', doc jsonb,
    shown text GENERATED ALWAYS AS (hive_id::text || '%') STORED, "select" text COLLATE "C" CHECK ("select" <> 'x%'),
    CONSTRAINT "odd (name)" PRIMARY KEY ("Log Id"), CONSTRAINT once UNIQUE (hive_id, serial_no) INCLUDE (mood)
) WITH (fillfactor = 70, toast.autovacuum_vacuum_threshold = 99);
ALTER TABLE apiary.log DROP COLUMN dropped;
CREATE UNIQUE INDEX "partial one" ON apiary.log (lower("select")) WHERE mood = 'angry' AND "select" LIKE '%)%';
CREATE INDEX "desc USING" ON apiary.log USING btree (taken_at DESC NULLS LAST, "select" text_pattern_ops) WITH (fillfactor = 60);
CREATE INDEX ON apiary.log USING gin (tags);
COMMENT ON TABLE apiary.log IS 'it''s the hive''s log'; COMMENT ON COLUMN apiary.log."select" IS '100% odd';
COMMENT ON INDEX apiary."desc USING" IS 'newest first';
ALTER TABLE apiary.log ALTER COLUMN doc SET STORAGE EXTERNAL, ALTER hive_id SET STATISTICS 500, ALTER honey SET (n_distinct = 7);
ALTER DEFAULT PRIVILEGES IN SCHEMA apiary GRANT ALL ON TABLES TO guest_{db}; ALTER DEFAULT PRIVILEGES GRANT INSERT ON TABLES TO PUBLIC;
ALTER TABLE apiary.log OWNER TO keeper_{db};
GRANT SELECT ON apiary.log TO guest_{db}; GRANT UPDATE (mood) ON apiary.log TO guest_{db} WITH GRANT OPTION;
GRANT SELECT ON apiary.log TO PUBLIC;
INSERT INTO apiary.log (taken_at, hive_id, mood, tags, doc, "select")
SELECT '2025-12-31 23:00+00'::timestamptz + n * interval '100 min', n % 10, 'calm', ARRAY['a', NULL], '{{"n": 1}}', 'v' || n
FROM generate_series(1, 900) n;
INSERT INTO apiary.log (taken_at, hive_id) SELECT taken_at, hive_id FROM apiary.log LIMIT 5;
"""

# What a person would look at before and after; partitions and the key's added column aside.
BELONGINGS = """
SELECT 'column', attname, format_type(atttypid, atttypmod), attnotnull::text, attidentity::text, attgenerated::text,
       attstorage::text, coalesce(attstattarget, -1)::text || coalesce(attoptions::text, ''), col_description(attrelid, attnum), attcollation::text
FROM pg_attribute WHERE attrelid = 'apiary.log'::regclass AND attnum > 0 AND NOT attisdropped
UNION ALL SELECT 'grant', coalesce(pg_get_userbyid(nullif(g.grantee, 0)), 'PUBLIC'), g.privilege_type, g.is_grantable::text, '',
       '', '', '', '', '' FROM pg_class c, aclexplode(c.relacl) g WHERE c.oid = 'apiary.log'::regclass AND g.grantee <> c.relowner
UNION ALL SELECT 'column grant', pg_get_userbyid(g.grantee), g.privilege_type, g.is_grantable::text, a.attname, '', '', '', '', ''
       FROM pg_attribute a, aclexplode(a.attacl) g WHERE a.attrelid = 'apiary.log'::regclass
UNION ALL SELECT 'table', obj_description(oid), pg_get_userbyid(relowner), '', '', '', '', '', '', '' FROM pg_class
       WHERE oid = 'apiary.log'::regclass
UNION ALL SELECT 'constraint', conname, contype::text, CASE WHEN contype IN ('c', 'f') THEN pg_get_constraintdef(oid) ELSE '' END,
       '', '', '', '', '', '' FROM pg_constraint WHERE conrelid = 'apiary.log'::regclass AND contype <> 'n' AND conparentid = 0
UNION ALL SELECT 'index', i.relname, obj_description(i.oid), CASE WHEN x.indisunique THEN '' ELSE
       replace(regexp_replace(pg_get_indexdef(i.oid), ' ON (ONLY )?', ' ON '), '"', '') END, '', '', '', '', '', ''
       FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid WHERE x.indrelid = 'apiary.log'::regclass
ORDER BY 1, 2, 3, 4, 5"""


class ConvertTest(DatabaseTest):
    def test_everything_that_belongs_to_a_table_is_there_afterwards(self):
        self.sql(AWKWARD.format(db=self.database))
        before, rows = self.sql(BELONGINGS), self.sql("TABLE apiary.log ORDER BY 1")
        self.layout(layout())
        done = self.json("convert", "--way", "locked", "--go", *NOW)
        self.assertEqual(
            [["Log Id", "taken_at"], ["hive_id", "serial_no", "taken_at"], ["", "taken_at"]],
            [change["after"] for change in done["key_changes"]],
        )
        self.assertEqual((before, rows), (self.sql(BELONGINGS), self.sql("TABLE apiary.log ORDER BY 1")))
        self.sql("INSERT INTO apiary.log (taken_at) VALUES ('2026-03-02')")
        self.assertEqual((5000 + 3 * 905, 906), self.sql('SELECT max("Log Id"), max(serial_no) FROM apiary.log')[0])
        self.assertEqual(["fillfactor=70"], self.value("SELECT reloptions FROM pg_class WHERE relname = 'log_2026_01'"))
        self.slabrow("convert", "--drop-old", code=1)
        self.assertTrue(self.value("SELECT to_regclass('apiary.log_before') IS NOT NULL"))
        self.slabrow("convert", "--drop-old", "--go")
        self.assertIsNone(self.value("SELECT to_regclass('apiary.log_before')"))
        self.sql(
            "INSERT INTO apiary.log (taken_at) VALUES ('2026-03-02')"
        )  # its sequences did not go with the old table

    def test_the_script_does_what_the_program_does(self):
        self.sql(AWKWARD.format(db=self.database))
        before, rows = self.sql(BELONGINGS), self.sql("TABLE apiary.log ORDER BY 1")
        self.layout(layout())
        self.slabrow("convert", "--way", "locked", "--script", "convert.sql", *NOW)
        self.assertEqual("r", self.value("SELECT relkind::text FROM pg_class WHERE oid = 'apiary.log'::regclass"))
        self.psql("convert.sql")
        self.assertEqual((before, rows), (self.sql(BELONGINGS), self.sql("TABLE apiary.log ORDER BY 1")))

    def test_a_script_whose_copy_would_differ_ends_with_nothing_changed(self):
        self.sql(PLAIN)
        self.layout(layout())
        self.slabrow("convert", "--way", "locked", "--script", "convert.sql", *NOW)
        script = (self.folder / "convert.sql").read_text()
        (self.folder / "convert.sql").write_text(
            script.replace("FROM ONLY apiary.log;", "FROM ONLY apiary.log WHERE log_id <> 77;")
        )
        with self.assertRaisesRegex(AssertionError, "differs from the original"):
            self.psql("convert.sql")
        self.assertEqual(
            [("log",)], self.sql("SELECT relname FROM pg_class WHERE relname ~ '^log' AND relkind IN ('r', 'p')")
        )

    def test_a_table_that_changed_since_the_script_was_written_is_left_as_it_is(self):
        self.sql(PLAIN)
        self.layout(layout())
        self.slabrow("convert", "--way", "locked", "--script", "convert.sql", *NOW)
        self.sql("ALTER TABLE apiary.log ADD COLUMN brood int DEFAULT 7")
        with self.assertRaisesRegex(AssertionError, "columns of apiary.log have changed meanwhile"):
            self.psql("convert.sql")
        self.assertEqual("r", self.value("SELECT relkind::text FROM pg_class WHERE oid = 'apiary.log'::regclass"))

    def test_a_reader_that_stays_ends_the_conversion_without_copying_again(self):
        self.sql(PLAIN)
        self.layout(layout())
        with psycopg.connect(self.dsn) as reader:
            reader.execute("SELECT count(*) FROM apiary.log")
            done = self.slabrow("convert", "--way", "locked", "--go", "--verbose", "--lock-wait", "50ms", *NOW, code=3)
        self.assertIn("no lock after 6 tries", done.stderr)
        self.assertEqual(1, done.stderr.count("CREATE TABLE apiary.log_incoming"))
        self.assertEqual(
            (700, "r"),
            self.sql(
                "SELECT (SELECT count(*) FROM apiary.log), relkind::text FROM pg_class WHERE oid = 'apiary.log'::regclass"
            )[0],
        )

    def test_what_would_be_lost_is_refused_by_name(self):
        self.sql(PLAIN)
        self.layout(layout())
        for what, make, remove in [
            ("view seen", "CREATE VIEW seen AS TABLE apiary.log", "DROP VIEW seen"),
            (
                "incoming foreign key other_log_id_fkey of other",
                "CREATE TABLE other (log_id bigint REFERENCES apiary.log)",
                "DROP TABLE other",
            ),
            (
                "trigger ring",
                "CREATE TRIGGER ring BEFORE UPDATE ON apiary.log FOR EACH ROW EXECUTE FUNCTION "
                "suppress_redundant_updates_trigger()",
                "DROP TRIGGER ring ON apiary.log",
            ),
            ("row security policy mine", "CREATE POLICY mine ON apiary.log", "DROP POLICY mine ON apiary.log"),
            ("inheritance heir", "CREATE TABLE heir () INHERITS (apiary.log)", "DROP TABLE heir"),
            ("publication news", "CREATE PUBLICATION news FOR TABLE apiary.log", "DROP PUBLICATION news"),
            (
                "function reads(apiary.log)",
                "CREATE FUNCTION reads(apiary.log) RETURNS int LANGUAGE sql RETURN 1",
                "DROP FUNCTION reads",
            ),
            (
                "replica identity f",
                "ALTER TABLE apiary.log REPLICA IDENTITY FULL",
                "ALTER TABLE apiary.log REPLICA IDENTITY DEFAULT",
            ),
            (
                "exclusion constraint solo",
                "ALTER TABLE apiary.log ADD CONSTRAINT solo EXCLUDE (log_id WITH =)",
                "ALTER TABLE apiary.log DROP CONSTRAINT solo",
            ),
        ]:
            self.sql(make)
            with self.subTest(what):
                self.assertIn(what, self.slabrow("convert", "--way", "locked", "--go", *NOW, code=4).stderr)
            self.sql(remove)
        self.slabrow("convert", "--way", "locked", "--go", *NOW)

    def test_names_with_quotes_capitals_spaces_unicode_and_full_length(self):
        for number, name in enumerate(['Old "Hives"', "käfer" * 12, "a%s.b", "x" * 63, "o'clock\\", "select"]):
            quoted_name = '"' + name.replace('"', '""') + '"'
            self.sql(f"CREATE TABLE {quoted_name} (id int PRIMARY KEY, taken_at date NOT NULL)".encode())
            self.sql(f"INSERT INTO {quoted_name} VALUES (1, '2026-03-05'), (2, '2026-04-01')".encode())
            self.layout(
                f"[[layout]]\ntable = '''{quoted_name}'''\nby = 'range'\nkey = ['taken_at']\nspan = '1 month'\nkeep = '1 month'\n"
            )
            with self.subTest(name):
                self.slabrow("convert", "--way", "locked", "--go", "--now", "2026-03-10", "--old-name", f"old_{number}")
                census = self.json("census", quoted_name, "--exact")
                self.assertEqual([1, 1], [partition["rows"] for partition in census["partitions"]])
                self.slabrow("tend", "--go", "--now", "2026-05-10")
                self.assertEqual(
                    [("2026-04-01", 1), ("2026-05-01", 0)],
                    [
                        (each["from"], each["rows"])
                        for each in self.json("census", quoted_name, "--exact")["partitions"]
                    ],
                )

    def test_empty_tables_numbers_hashes_and_lists_of_every_value(self):
        for what, columns, filling, keys, expected in [
            ("empty", "taken_at date NOT NULL", None, {}, 1),
            (
                "numbers",
                "n bigint NOT NULL",
                "SELECT n * 100 - 300 FROM generate_series(0, 9) n",
                {"key": ["n"], "span": 250, "ahead": 500},
                7,
            ),
            (
                "hash of two",
                "a int, b text",
                "SELECT n % 7, n::text FROM generate_series(1, 500) n",
                {"by": "hash", "key": ["a", "b"], "span": None, "ahead": None, "parts": 5},
                5,
            ),
            (
                "a list of every value",
                "z text",
                "SELECT (ARRAY['A', 'b c', NULL])[1 + n % 3] FROM generate_series(1, 90) n",
                {"by": "list", "key": ["z"], "span": None, "ahead": None},
                3,
            ),
            (
                "numbers with open beginning",
                "n int",
                "VALUES (5), (15), (2000000000)",
                {"key": ["n"], "span": 10, "from": 10, "ahead": 10, "open_below": True, "catch_all": True},
                None,
            ),
            (
                "two columns of a range",
                "taken_at timestamp, hive int",
                "SELECT '2026-01-15'::timestamp + n * interval '1 day', n FROM generate_series(1, 40) n",
                {"key": ["taken_at", "hive"]},
                3,
            ),
        ]:
            self.sql(f"DROP TABLE IF EXISTS t, t_before; CREATE TABLE t ({columns})")
            self.sql(f"INSERT INTO t {filling}" if filling else "SELECT 1")
            self.layout(layout("public.t", **keys))
            with self.subTest(what):
                if expected is None:
                    self.assertIn("partitions", self.slabrow("convert", "--way", "locked", "--go", *NOW, code=2).stderr)
                    continue
                self.slabrow("convert", "--way", "locked", "--go", *NOW)
                self.assertEqual(
                    expected, self.value("SELECT count(*) FROM pg_inherits WHERE inhparent = 't'::regclass")
                )
                self.assertEqual([], self.sql("TABLE t EXCEPT ALL TABLE t_before"))

    def test_writers_wait_readers_do_not_and_what_they_write_is_kept(self):
        self.sql(PLAIN.replace("700", "300000").replace("3 hours", "10 seconds"))
        self.layout(layout(catch_all=True))
        written, slowest, ended = [0], [0.0], threading.Event()

        def write():
            with (
                psycopg.connect(self.dsn, autocommit=True) as writer,
                psycopg.connect(self.dsn, autocommit=True) as reader,
            ):
                while not ended.is_set():
                    began = time.monotonic()
                    reader.execute("SELECT 1 FROM apiary.log LIMIT 1")
                    slowest[0] = max(slowest[0], time.monotonic() - began)
                    writer.execute("INSERT INTO apiary.log VALUES (%s, '2026-01-15', 'late')", [1_000_000 + written[0]])
                    written[0] += 1

        thread = threading.Thread(target=write)
        thread.start()
        try:
            self.slabrow("convert", "--way", "locked", "--go", *NOW)
        finally:
            ended.set()
            thread.join()
        self.assertEqual(300_000 + written[0], self.value("SELECT count(*) FROM apiary.log"))

    def test_two_conversions_at_once_one_works_and_the_other_says_so(self):
        self.sql(PLAIN.replace("700", "200000").replace("3 hours", "10 seconds"))
        self.layout(layout(catch_all=True))
        codes = []
        threads = [
            threading.Thread(
                target=lambda: codes.append(
                    self.run_quietly("convert", "--way", "locked", "--go", "--lock-wait", "100ms", *NOW)
                )
            )
            for _ in range(2)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual([0, 4], sorted(codes))
        self.assertEqual(200_000, self.value("SELECT count(*) FROM apiary.log"))

    def run_quietly(self, *arguments):
        from tests.support import run

        return run(*arguments, env={"SLABROW_DSN": self.dsn}, cwd=self.folder).returncode


class BuildTest(DatabaseTest):
    SCHEMA = (
        "CREATE TABLE apiary.log (log_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, taken_at timestamptz NOT NULL, n int);\n"
        "CREATE INDEX log_n_idx ON apiary.log (n);\n"
    )

    def setUp(self):
        super().setUp()
        self.sql("CREATE SCHEMA apiary")
        (self.folder / "log.sql").write_text(self.SCHEMA)
        self.layout(layout(catch_all=True))

    def test_a_new_table_gets_its_partitions_keys_and_indexes(self):
        proposed = self.json("build", "--schema", "log.sql", *NOW, code=1)
        self.assertEqual(("proposed", ["log_2026_03", "log_rest"]), (proposed["state"], proposed["partitions"]))
        self.assertIsNone(self.value("SELECT to_regclass('apiary.log')"))
        self.slabrow("build", "--schema", "log.sql", "--script", "build.sql", *NOW)
        self.assertIn("PRIMARY KEY (log_id, taken_at)", (self.folder / "build.sql").read_text())
        self.json("build", "--schema", "log.sql", "--go", *NOW)
        self.sql("INSERT INTO apiary.log (taken_at) VALUES ('2026-03-01'), ('2031-01-01')")
        self.assertEqual(2, self.value("SELECT count(*) FROM pg_indexes WHERE tablename = 'log_2026_03'"))
        self.layout(layout("apiary.log2", catch_all=True))
        self.json("build", "--like", "apiary.log", "--go", *NOW)
        self.assertEqual(2, self.value("SELECT count(*) FROM pg_indexes WHERE tablename = 'log2_2026_03'"))

    def test_a_definition_that_cannot_be_used_is_refused(self):
        for text, code, hint in [
            ("DROP TABLE apiary.log", 2, "begins with DROP"),
            ("CREATE TABLE x (a int)", 2, "does not create apiary.log"),
            (self.SCHEMA + "/* CREATE INDEX ON apiary.log (taken_at);", 2, "comment that begins here is never closed"),
            ("CREATE TABLE apiary.log (taken_at timestamptz, s serial)", 2, "IDENTITY"),
            ("CREATE TABLE apiary.log (", 3, "syntax error"),
            (None, 2, "--schema FILE.sql"),
        ]:
            (self.folder / "log.sql").write_text(text or "")
            with self.subTest(text):
                arguments = ["--schema", "log.sql"] if text else []
                self.assertIn(hint, self.slabrow("build", *arguments, "--go", *NOW, code=code).stderr)
                self.assertIsNone(self.value("SELECT to_regclass('apiary.log')"))

    def test_thousands_of_partitions_are_no_special_case(self):
        self.layout(layout(span="1 day", **{"from": "2016-01-01"}, catch_all=False, keep="1 month"))
        self.slabrow("build", "--schema", "log.sql", "--go", *NOW)
        self.sql("INSERT INTO apiary.log (taken_at, n) VALUES ('2016-01-01', 1), ('2026-03-02', 2)")
        count = self.value("SELECT count(*) FROM pg_inherits WHERE inhparent = 'apiary.log'::regclass")
        self.assertGreater(count, 3_700)
        census = self.json("census", "apiary.log", "--exact")
        self.assertEqual((count, 2), (len(census["partitions"]), sum(each["rows"] for each in census["partitions"])))
        with self.assertRaises(psycopg.errors.OutOfMemory):
            self.sql(
                "DROP TABLE apiary.log"
            )  # one transaction cannot hold the locks: why everything here is done in small ones
        self.layout(
            layout(span="1 day", **{"from": "2016-01-01"}, keep="10 years", past_keep="drop", at_most_retired=9999)
        )
        self.assertEqual([], self.json("tend", *NOW, "--go")["errors"])
        self.assertEqual("nothing to do", self.slabrow("tend", *NOW).stdout.strip().rsplit(": ", 1)[-1])
        (self.folder / "q.sql").write_text("SELECT count(*) FROM apiary.log WHERE taken_at = '2026-03-02';")
        [query] = self.json("prove", "--queries", "q.sql")["queries"]
        self.assertEqual(("one", ["apiary.log_2026_03_02"]), (query["verdict"], query["planned"]))

    def test_partitions_of_partitions_are_read_and_counted(self):
        self.sql(
            "CREATE TABLE apiary.deep (z text, a int, b date) PARTITION BY LIST (z);"
            "CREATE TABLE apiary.deep_a PARTITION OF apiary.deep FOR VALUES IN ('a', NULL) PARTITION BY RANGE (a, b);"
            "CREATE TABLE apiary.deep_a1 PARTITION OF apiary.deep_a FOR VALUES FROM (1, MINVALUE) TO (5, '2026-01-01');"
            "CREATE TABLE apiary.deep_a2 PARTITION OF apiary.deep_a FOR VALUES FROM (6, MINVALUE) TO (MAXVALUE, MAXVALUE);"
            "CREATE TABLE apiary.deep_b PARTITION OF apiary.deep FOR VALUES IN ('b') PARTITION BY HASH (lower(z));"
            "CREATE TABLE apiary.deep_b1 PARTITION OF apiary.deep_b FOR VALUES WITH (MODULUS 2, REMAINDER 1);"
            "INSERT INTO apiary.deep VALUES ('a', 2, '2026-01-05'), (NULL, 7, '2026-01-05')"
        )
        census = self.json("census", "apiary.deep", "--exact", code=1)
        by_name = {each["name"]: each for each in census["partitions"]}
        self.assertEqual(
            ([1, "MINVALUE"], [5, "2026-01-01"], 1),
            tuple(by_name["apiary.deep_a1"][key] for key in ("from", "to", "rows")),
        )
        self.assertEqual(["gap", "missing_remainder"], [finding["code"] for finding in census["findings"]])
        self.assertEqual("apiary.deep_b", by_name["apiary.deep_b1"]["parent"])

    def test_a_build_that_was_cut_short_goes_on(self):
        self.slabrow("build", "--schema", "log.sql", "--go", *NOW)
        self.sql("DROP TABLE apiary.log_2026_03")
        again = self.json("build", "--schema", "log.sql", "--go", *NOW)
        self.assertEqual(["log_2026_03"], again["partitions"])

    def test_a_conversion_that_needs_too_many_locks_is_refused_beforehand(self):
        self.sql(
            "CREATE TABLE apiary.many (taken_at date NOT NULL, a int, b int); CREATE INDEX ON apiary.many (a);"
            "CREATE INDEX ON apiary.many (b); INSERT INTO apiary.many SELECT d FROM generate_series('2018-01-01'::date, "
            "'2026-01-01', '1 day') d"
        )
        self.layout(layout("apiary.many", span="1 day"))
        error = self.slabrow("convert", "--way", "locked", "--go", *NOW, code=4).stderr
        self.assertIn("max_locks_per_transaction", error)
        self.assertEqual("r", self.value("SELECT relkind::text FROM pg_class WHERE oid = 'apiary.many'::regclass"))
