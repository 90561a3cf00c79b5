"""What `prove --run` and `compare` run of statements that others wrote, and what no statement of theirs can reach."""

import psycopg

from slabrow.core.sql.lexing import called_in, names_in, operators_in
from slabrow.core.sql.parameters import read_literals
from slabrow.core.values.errors import UsageError
from tests.support import DatabaseTest, unittest

TABLES = """
CREATE TABLE t (k int NOT NULL, v text) PARTITION BY RANGE (k);
CREATE TABLE t1 PARTITION OF t FOR VALUES FROM (0) TO (10); CREATE TABLE t2 PARTITION OF t FOR VALUES FROM (10) TO (20);
INSERT INTO t SELECT g % 20, 'x' FROM generate_series(1, 1000) g;
CREATE SEQUENCE s; CREATE SEQUENCE s2;
CREATE TABLE u (id int DEFAULT nextval('s2'), k int) PARTITION BY LIST (k); CREATE TABLE u1 PARTITION OF u FOR VALUES IN (1);
CREATE TABLE watched (k int, v int) PARTITION BY LIST (k); CREATE TABLE watched_1 PARTITION OF watched FOR VALUES IN (1);
INSERT INTO u VALUES (1, 1); INSERT INTO watched VALUES (1, 1);
CREATE VIEW harmless_view AS SELECT * FROM t LIMIT (SELECT count(*) FROM pg_class);
CREATE VIEW counting AS SELECT k, v FROM t WHERE k < 5 LIMIT nextval('s');
CREATE VIEW over_it AS SELECT * FROM counting;
CREATE FUNCTION harmless(int) RETURNS int IMMUTABLE LANGUAGE sql AS 'SELECT $1 + 1';
CREATE FUNCTION sly(int) RETURNS bigint STABLE LANGUAGE plpgsql AS 'BEGIN RETURN nextval(''s''); END';
CREATE FUNCTION lying(int) RETURNS bigint IMMUTABLE LANGUAGE sql AS 'SELECT nextval(''s'')';
CREATE FUNCTION twice_removed(int) RETURNS bigint STABLE LANGUAGE plpgsql AS 'BEGIN RETURN sly($1); END';
CREATE FUNCTION dyn(text) RETURNS bigint STABLE LANGUAGE plpgsql AS 'DECLARE r bigint; BEGIN EXECUTE $1 INTO r; RETURN r; END';
CREATE FUNCTION tells() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN PERFORM nextval(''s''); RETURN NEW; END';
CREATE TRIGGER tell BEFORE UPDATE ON watched FOR EACH ROW EXECUTE FUNCTION tells();
CREATE AGGREGATE counted(int) (sfunc = step, stype = bigint);
CREATE FUNCTION at_once(int, int) RETURNS boolean LANGUAGE plpgsql AS 'BEGIN RETURN nextval(''s'') > 0; END';
CREATE OPERATOR <<<>>> (LEFTARG = int, RIGHTARG = int, FUNCTION = at_once);
"""
STEP = "CREATE FUNCTION step(bigint, int) RETURNS bigint LANGUAGE sql AS 'SELECT nextval(''s'')';"

# What may be run, and what not with a word of the reason.
JUDGED = {
    "quoted": ("SELECT * FROM t WHERE k = \"nextval\"('s')", "nextval"),
    "escaped name": ("SELECT U&\"n\\0065xtval\"('s'), * FROM t", "nextval"),
    "other escape": ("SELECT U&\"n!0065xtval\" UESCAPE '!' ('s'), * FROM t", "not understood"),
    "with schema": ("SELECT pg_catalog . NEXTVAL ( 's' ) FROM t", "nextval"),
    "schema in quotes": ("SELECT \"pg_catalog\".\"nextval\"('s') FROM t", "nextval"),
    "behind an escaped quote": (r"SELECT E'\'', nextval('s'), '' FROM t WHERE k = 1", "nextval"),
    "between nested comments": ("SELECT /* /* */ ' */ nextval('s') /* ' */ FROM t", "nextval"),
    "between dollar quotes": ("SELECT $a$ $b$ $a$, nextval('s'), $b$ FROM t $b$ FROM t", "nextval"),
    "with a comment before the bracket": ("SELECT nextval/* */ -- no\n ('s') FROM t", "nextval"),
    "text that is executed": ("SELECT query_to_xml('select nextval(''s'')', true, true, '') FROM t WHERE k = 3", "query_to_xml"),
    "a default": ("UPDATE u SET id = DEFAULT WHERE k = 1", "nextval"),
    "ends sessions": ("SELECT \"pg_terminate_backend\"(0) FROM t WHERE k = 1", "pg_terminate_backend"),
    "waits": ("SELECT pg_sleep(9) FROM t WHERE k = 1", "pg_sleep"),
    "reads a file": ("SELECT pg_read_file('/etc/hostname') FROM t", "pg_read_file"),
    "keeps a lock": ("SELECT pg_advisory_lock(k) FROM t", "pg_advisory_lock"),
    "changes a setting": ("SELECT set_config('work_mem', '1GB', false) FROM t", "set_config"),
    "tells others": ("SELECT pg_notify('a', 'b') FROM t", "pg_notify"),
    "large object": ("SELECT lo_unlink(7) FROM t", "lo_unlink"),
    "in LIMIT": ("SELECT * FROM t LIMIT nextval('s')", "nextval"),
    "in a view": ("SELECT * FROM counting", "nextval"),
    "in a view of a view": ("SELECT * FROM over_it WHERE k = 3", "nextval"),
    "in a function that calls itself stable": ("SELECT sly(k) FROM t", "nextval"),
    "in one that calls itself immutable": ("SELECT lying(k) FROM t", "nextval"),
    "two functions down": ("SELECT twice_removed(k) FROM t", "sly"),
    "executed by a function": ("SELECT dyn('select nextval(''s'')') FROM t", "executes"),
    "in an aggregate": ("SELECT counted(k) FROM t", "step"),
    "behind an operator": ("SELECT * FROM t WHERE k <<<>>> 3", "at_once"),
    "behind an operator with its schema": ("SELECT * FROM t WHERE k OPERATOR(public.<<<>>>) 3", "not understood"),
    "a trigger": ("UPDATE watched SET v = 2 WHERE k = 1", "trigger tell"),
    "locks rows": ("SELECT * FROM t WHERE k = 1 FOR UPDATE", "locks rows"),
    "inserts": ("INSERT INTO t VALUES (1, 'y')", "inserts"),
    "a harmless view": ("SELECT * FROM harmless_view WHERE k = 3", None),
    "a harmless function": ("SELECT harmless(k), random() FROM t WHERE k = 4", None),
    "only text": ("SELECT 'nextval(1)', v FROM t WHERE k = 1 -- nextval('s')", None),
    "only a name": ('SELECT k AS "nextval" FROM t WHERE k = 1', None),
    "a change": ("UPDATE t SET v = 'y' WHERE k = 3", None),
    "a report": ("SELECT count(*), max(now()) FROM t JOIN u USING (k) WHERE k = 1 AND v LIKE 'x%' AND k = ANY ('{1,2}')", None),
}  # fmt: skip


class FenceTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        first, rest = TABLES.split("CREATE AGGREGATE", 1)
        self.sql(first + STEP + "CREATE AGGREGATE" + rest)

    def write(self, statements):
        (self.folder / "q.sql").write_text("".join(f"-- name: {name}\n{sql}\n;\n" for name, sql in statements))

    def test_only_what_reads_or_is_rolled_back_is_run(self):
        self.write((name, sql) for name, (sql, _) in JUDGED.items())
        done = self.json("prove", "--queries", "q.sql", "--run")
        found = {each["name"]: each for each in done["queries"]}
        self.assertEqual(["inserts"], [each["name"] for each in done["unproven"]])
        for name, (sql, reason) in JUDGED.items():
            if name == "inserts":
                continue
            with self.subTest(name, sql=sql):
                if reason is None:
                    self.assertIsNotNone(found[name]["executed"], found[name]["note"])
                else:
                    self.assertIsNone(found[name]["executed"])
                    self.assertIn(reason, found[name]["note"])
        untouched = "SELECT s.is_called OR s2.last_value > 1 OR EXISTS (SELECT FROM t WHERE v = 'y') FROM s, s2"
        self.assertFalse(self.value(untouched))

    def test_compare_runs_no_more_than_prove(self):
        self.sql("CREATE TABLE plain AS SELECT * FROM t")
        self.write((name, sql) for name, (sql, _) in JUDGED.items() if "SELECT" in sql)
        done = self.json("compare", "--table", "t", "--with", "plain", "--queries", "q.sql")
        self.assertFalse(self.value("SELECT s.is_called FROM s"))
        self.assertIn("nextval", str(done))

    def test_nothing_is_run_where_a_cast_or_a_domain_reaches_further(self):
        self.write([("plain", "SELECT * FROM t WHERE k = 1")])
        for sql, words in (
            ("CREATE DOMAIN counted_int AS int CHECK (nextval('s') > 0)", "a domain"),
            (
                "DROP DOMAIN counted_int; CREATE TYPE mood AS ENUM ('a'); CREATE FUNCTION to_mood(int) RETURNS mood"
                " LANGUAGE sql AS 'SELECT nextval(''s''); SELECT ''a''::mood'; CREATE CAST (int AS mood) WITH FUNCTION to_mood(int)",
                "a cast",
            ),
        ):
            self.sql(sql)
            (found,) = self.json("prove", "--queries", "q.sql", "--run")["queries"]
            self.assertIsNone(found["executed"])
            self.assertIn(words, found["note"])

    def test_what_the_role_could_do_is_said_before_it_runs(self):
        self.write([("plain", "SELECT * FROM t WHERE k = 1")])
        run = ("prove", "--queries", "q.sql", "--run")
        self.assertIn("could do anything: it is a superuser", self.slabrow(*run).stderr)
        self.sql("GRANT SELECT ON t TO reader")
        self.assertEqual("", self.slabrow(*run, dsn=self.dsn_as("reader")).stderr)
        self.sql("GRANT UPDATE ON u TO reader")
        self.assertIn("could change rows", self.slabrow(*run, dsn=self.dsn_as("reader")).stderr)
        self.assertEqual("", self.slabrow("prove", "--queries", "q.sql", dsn=self.dsn_as("reader")).stderr)


class ParametersTest(DatabaseTest):
    def test_values_of_a_query_are_literals_and_nothing_else(self):
        self.sql("CREATE TABLE p (k int) PARTITION BY LIST (k); CREATE TABLE p_1 PARTITION OF p FOR VALUES IN (1)")
        for params in (
            "pg_terminate_backend(0)", "1); DROP TABLE p; SELECT (1", "(SELECT 1)", "1 + 1", "now()", "current_user",
            "'a' || 'b'", "1 -- , 2'\n'3", "ARRAY[pg_backend_pid()]", "CAST(nextval('s') AS int)", "'1'::int::nextval('s')", "k",
            "DEFAULT", "'1'::other.secret()", "1,", ",1", "'1", "$1", "E'\\", "'1'::int[pg_sleep(1)]",
        ):  # fmt: skip
            with self.subTest(params), self.assertRaises(UsageError):
                read_literals(params)
        (self.folder / "q.sql").write_text("-- name: a\n-- params: pg_sleep(1)\nSELECT * FROM p WHERE k = $1;")
        error = self.slabrow("prove", "--queries", "q.sql", code=2).stderr
        self.assertIn("q.sql, line 3: `params:` above this query cannot be read", error)
        self.assertIn("write literals", error)

    def test_literals_are_worth_what_they_are_on_the_server(self):
        for text, expected in (
            ("17", "17"), ("-3.5e2", "-350"), ("'it''s'", "it's"), (r"E'a\'b'", "a'b"), ("$$a$$", "a"), ("true", "t"),
            ("NULL", None), ("date '2026-03-01'", "2026-03-01"), ("'2026-03-01'::date", "2026-03-01"),
            ("CAST('7' AS int)", "7"), ("'{1,2}'::int[]", "{1,2}"), ("ARRAY[1, 2]", "{1,2}"), ("'1'::numeric(5,2)", "1.00"),
            ("ARRAY['a', 'b''c']::text[]", "{a,b'c}"), ("timestamp with time zone '2026-03-01 00:00+00'", "2026-03-01 00:00:00+00"),
            (r"U&'\0061'", "a"), ("'f'::boolean", "f"), ("interval '1 day'", "1 day"), ("'a, b'", "a, b"), ("+5", "5"),
        ):  # fmt: skip
            with self.subTest(text):
                self.sql("SET timezone = 'UTC'")
                (spelled,) = read_literals(text)
                found = self.value(f"SELECT ({spelled})::text")
                self.assertEqual({"t": "true", "f": "false"}.get(expected, expected), found)
        self.assertEqual(3, len(read_literals("1, 'a, b', ARRAY[1, 2]")))
        self.assertEqual((), read_literals("  "))


class LexingTest(unittest.TestCase):
    def test_names_stand_where_the_server_sees_them(self):
        for sql, called in (
            ("SELECT f(1), 'g(2)', h", {"f"}), ('SELECT "F" (1)', {"F"}), ("SELECT a.b.c(1)", {"c"}), ("SELECT f--\n(1)", {"f"}),
            ("SELECT $x$f(1)$x$", set()), (r"SELECT E'\' f(1) ' , g(1)", {"g"}), ("SELECT 'a\\', f(1), ''", {"f"}),
            ("SELECT /* f( /* g( */ h( */ i(1)", {"i"}), ('SELECT "a""b"(1)', {'a"b'}), ("SELECT Straße(1)", {"straße"}),
        ):  # fmt: skip
            with self.subTest(sql):
                self.assertLessEqual(called, called_in(sql))
                self.assertLessEqual(called_in(sql), called | {"select", "h"})
        self.assertIn("b c", names_in('SELECT * FROM a."b c"'))
        self.assertIn("<->", operators_in("SELECT a <-> b"))


class WaitingTest(DatabaseTest):
    def test_a_table_that_another_session_holds_ends_in_an_error(self):
        self.sql(
            "CREATE TABLE p (k int) PARTITION BY LIST (k); CREATE TABLE p_1 PARTITION OF p FOR VALUES IN (1);"
            f"INSERT INTO p VALUES (1); ALTER DATABASE {self.database} SET lock_timeout = '500ms'"
        )
        (self.folder / "q.sql").write_text("SELECT * FROM p WHERE k = 1;")
        with psycopg.connect(self.dsn) as other:
            other.execute("LOCK TABLE p_1 IN ACCESS EXCLUSIVE MODE")
            for command in (("prove", "--queries", "q.sql", "--run"), ("census", "p"), ("survey", "p")):
                self.assertIn("another session holds the table", self.slabrow(*command, code=3).stderr)
