"""The demo: it tells its story, and nothing of it stays behind, however it ends."""

import re
import shutil
import signal
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np

from slabrow.demo.data import Demo, coop_sizes
from slabrow.servers.postgresql.connection import connect
from slabrow.servers.postgresql.private import server as private
from tests.support import DatabaseTest, ServerTest, begin, binaries, run

SAID = (
    "slabrow: by-hand holds 1-copy.sql, 2-follow.sql, 3-swap.sql, 4-undo.sql, 5-let-go.sql, give-up.sql; nothing has "
    "been done",
    "slabrow: the statements are run as postgres, who could do anything: it is a superuser; a role that has SELECT only is safer (docs/guide/proving.md)",
)
SMALL = ("--rows", "20000")


class DemoFolder(ServerTest):
    """Helpers."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory(prefix="slabrow-test-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.environment = {"XDG_STATE_HOME": str(self.folder)}

    def assert_gone(self, output, within_s=30):
        folder = Path(re.search(r"runs in (\S+);", output).group(1))
        end = time.monotonic() + within_s
        while (folder.exists() or self.is_running(folder)) and time.monotonic() < end:
            time.sleep(0.05)
        self.assertFalse(folder.exists(), f"{folder} is still there")
        self.assertFalse(self.is_running(folder), f"a process of {folder} still runs")

    def is_running(self, folder):
        """Whether a process, of the server or its guardian, has the folder in its command line."""
        for path in Path("/proc").glob("[0-9]*/cmdline"):
            try:
                if bytes(folder) in path.read_bytes():
                    return True
            except OSError:
                continue  # it ended meanwhile
        return False


class DemoTest(DemoFolder):
    def test_it_walks_through_the_job_and_leaves_nothing(self):
        done = run("demo", *SMALL, "--files", self.folder / "files", env=self.environment)
        self.assertEqual(
            (0, ""),
            (done.returncode, "".join(line for line in done.stderr.splitlines() if line not in SAID)),
        )
        for stage in range(1, 11):
            self.assertIn(f"{stage} of 10 · ", done.stdout)
        page = re.search(r"The page lies at (\S+)", done.stdout).group(1)
        self.assertIn("The conversion", Path(page).read_text())
        self.assertRegex(done.stdout, r"The DELETE that this replaces, .*: [\d,]+ rows in")
        self.assertIn("compared in one snapshot, by count and fingerprint", done.stdout)
        self.assertRegex(done.stdout, r"a writer made [\d,]+ changes. The longest time that one took: \d+ ms")
        self.assertEqual(
            {
                "slabrow.toml",
                "workload.sql",
                "proofs.sql",
                *(
                    f"{name}.json"
                    for name in ("survey", "weigh", "forecast", "convert", "census", "compare", "prove", "tend")
                ),
                "report.html",
                "weigh.png",
                "forecast.png",
                "by-hand",
                "server-log.csv",
            },
            {path.name for path in (self.folder / "files").iterdir()},
        )
        self.assertIn("duration", (self.folder / "files" / "server-log.csv").read_text())
        self.assert_gone(done.stdout)

    def start(self):
        process = begin("demo", *SMALL, env={**self.environment, "PYTHONUNBUFFERED": "1"})
        first = process.stdout.readline()
        return process, first

    def test_it_cleans_up_after_ctrl_c_a_crash_and_a_termination(self):
        for stop, code in [(signal.SIGINT, 5), (signal.SIGKILL, -9), (signal.SIGTERM, 5)]:
            for pause in (0.0, 2.5):
                with self.subTest(stop=stop, pause=pause):
                    process, first = self.start()
                    time.sleep(pause)
                    process.send_signal(stop)
                    _, error = process.communicate(timeout=60)
                    self.assertEqual(code, process.returncode, error)
                    self.assertNotIn("Traceback", error)
                    self.assert_gone(first)

    def test_a_server_that_is_kept_can_be_used_and_stopped(self):
        done = run("demo", *SMALL, "--load-only", "--keep-server", env=self.environment)
        self.addCleanup(run, "demo", "--stop", env=self.environment)
        dsn = re.search(r"export SLABROW_DSN='(.*)'", done.stdout).group(1)
        folder = re.search(r"cd (\S+)", done.stdout).group(1)
        commands = re.findall(r"^  (slabrow .*)$", done.stdout, re.MULTILINE)
        self.assertEqual(5, len(commands))
        used = run(*commands[0].split()[1:], env={"SLABROW_DSN": dsn}, cwd=folder)
        self.assertIn("apiary.coop_event: about 5,000 rows", used.stdout)
        self.assertEqual(4, run("demo", "--keep-server", *SMALL, env=self.environment).returncode)
        self.assertIn("is stopped", run("demo", "--stop", env=self.environment).stdout)
        self.assertFalse(Path(folder).exists())
        self.assertIn("no demo server", run("demo", "--stop", env=self.environment).stdout)


class OtherFamilyTest(DemoFolder):
    family = "mariadb"

    def test_the_walk_on_mariadb(self):
        done = run("demo", "--family", "mariadb", *SMALL, "--files", self.folder / "files", env=self.environment)
        self.assertEqual((0, ""), (done.returncode, done.stderr))
        for words in ("10 of 10 · ", "What is different", "Converted: apiary.reading", "Meanwhile a writer made"):
            self.assertIn(words, done.stdout)
        self.assertIn("The conversion", (self.folder / "files" / "report.html").read_text())
        self.assert_gone(done.stdout)

    def test_a_server_that_is_kept_can_be_used_and_stopped(self):
        done = run("demo", "--family", "mariadb", *SMALL, "--load-only", "--keep-server", env=self.environment)
        self.addCleanup(run, "demo", "--stop", env=self.environment)
        dsn = re.search(r"export SLABROW_DSN='(.*)'", done.stdout).group(1)
        folder = re.search(r"cd (\S+)", done.stdout).group(1)
        used = run("survey", "apiary.coop_event", env={"SLABROW_DSN": dsn}, cwd=folder)
        self.assertIn("apiary.coop_event: about 5,000 rows", used.stdout)
        self.assertEqual(4, run("demo", "--keep-server", *SMALL, env=self.environment).returncode)
        self.assertIn("is stopped", run("demo", "--stop", env=self.environment).stdout)
        self.assertFalse(Path(folder).exists())

    def test_two_families_at_once_are_refused(self):
        done = run("demo", "--family", "mariadb", "--dsn", "postgresql:///x", env=self.environment)
        self.assertEqual(2, done.returncode)
        self.assertIn("different servers", done.stderr)


class OwnServerTest(DatabaseTest):
    def test_on_a_server_of_the_users_own_only_its_schema_is_touched(self):
        self.sql("CREATE TABLE mine (n int)")
        self.assertIn(
            "10 of 10", self.slabrow("demo", "--dsn", self.dsn, *SMALL, env={"XDG_STATE_HOME": str(self.folder)}).stdout
        )
        self.assertEqual(
            [("mine",)],
            self.sql(
                "SELECT relname FROM pg_class WHERE relkind IN ('r', 'p') AND relnamespace NOT IN "
                "('pg_catalog'::regnamespace, 'information_schema'::regnamespace)"
            ),
        )
        self.sql("CREATE SCHEMA apiary; CREATE TABLE apiary.precious (n int)")
        self.assertIn("schema apiary exists", self.slabrow("demo", "--dsn", self.dsn, *SMALL, code=4).stderr)
        self.assertEqual(0, self.value("SELECT count(*) FROM apiary.precious"))


class DataTest(unittest.TestCase):
    def test_cooperatives_are_very_unequal(self):
        sizes = coop_sizes()
        self.assertEqual((40_000, 3), (sizes.max(), sizes.min()))

    def test_the_data_are_the_same_each_time_and_chunks_do_not_depend_on_each_other(self):
        first, second = (list(Demo(450_000).readings_in_chunks()) for _ in range(2))
        self.assertEqual(first, second)
        self.assertEqual(3, len(first))

    def test_binary_rows_carry_nulls_and_texts_of_any_length(self):
        from slabrow.servers.postgresql.write.binary_copy import Field, encode

        rows = encode(
            [
                Field(np.array([1, 2], np.int32)),
                Field(np.array(["", "abc"], "S5")),
                Field(np.array([7, 8], np.int16), np.array([False, True])),
            ]
        )
        self.assertEqual(
            bytes.fromhex(
                "0003 00000004 00000001 00000000 00000002 00070003 00000004 00000002 00000003 616263 ffffffff"
            ),
            rows,
        )


class PrivateServerTest(ServerTest):
    def test_a_chosen_folder_without_postgresql_is_refused(self):
        done = run("demo", env={"SLABROW_PG_BIN": "/nonexistent"})
        self.assertEqual(3, done.returncode)
        self.assertIn("SLABROW_PG_BIN names no usable PostgreSQL", done.stderr)

    def test_a_server_that_cannot_start_says_why(self):
        with self.assertRaisesRegex(Exception, "shared_buffers"):
            private.start(binaries()[0], {"shared_buffers": "nonsense"})

    def test_binaries_where_the_unprivileged_user_may_not_go_still_serve(self):
        chosen = next(each for each in binaries() if "site-packages" in str(each.folder))
        with tempfile.TemporaryDirectory() as hidden:  # of mode 0700, as /root is
            package = chosen.folder.parent.parent
            shutil.copytree(package, Path(hidden) / package.name, symlinks=True)
            libraries = package.with_name(package.name + ".libs")
            if libraries.exists():
                shutil.copytree(libraries, Path(hidden) / libraries.name, symlinks=True)
            folder = Path(hidden) / package.name / "pginstall" / "bin"
            server = private.start(private.Binaries(folder, chosen.version))
            try:
                with connect(server.dsn) as connection:
                    self.assertEqual(chosen.version, connection.info.server_version // 10_000)
            finally:
                server.stop()
        self.assertFalse(server.folder.exists())
