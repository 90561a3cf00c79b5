"""Files that the program writes and reads: whole or not at all, where they were named, and in time that grows with them."""

import json
import os
import socket
import stat
import subprocess
import tempfile
import threading
import time
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from benchmarks.growth import READERS, UNITS
from slabrow.core.values.errors import UsageError
from slabrow.files.writing import check_writable, write_file
from tests.support import DatabaseTest, ServerTest, ended_after, run, unittest
from tests.test_program_convert import layout

NOW = ("--now", "2026-03-01")
PARTED = """
CREATE TABLE log (taken_at timestamptz NOT NULL, n int) PARTITION BY RANGE (taken_at);
CREATE TABLE log_1 PARTITION OF log FOR VALUES FROM ('2026-01-01') TO ('2026-02-01');
"""


class WritingTest(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory(prefix="slabrow-test-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def names(self):
        return sorted(path.name for path in self.folder.iterdir())

    def test_a_file_is_written_whole_or_not_at_all(self):
        file = self.folder / "a.sql"
        write_file(file, "SELECT 1;\n")
        self.assertEqual(("SELECT 1;\n", ["a.sql"]), (file.read_text(), self.names()))
        for path in (self.folder / "missing" / "a.sql", self.folder, Path("/proc/none"), Path("/dev/full")):
            with self.subTest(path), self.assertRaises(UsageError):
                write_file(path, "x")
        self.assertEqual(["a.sql"], self.names())

    def test_what_stood_there_keeps_its_mode_owner_and_links(self):
        file, link = self.folder / "a.sql", self.folder / "link"
        file.write_text("old")
        os.chmod(file, 0o640)
        if os.geteuid() == 0:
            os.chown(file, 7, 8)
        link.symlink_to("a.sql")
        write_file(link, "new")
        found = file.stat()
        self.assertEqual(("new", 0o640), (file.read_text(), stat.S_IMODE(found.st_mode)))
        self.assertTrue(link.is_symlink())
        if os.geteuid() == 0:
            self.assertEqual((7, 8), (found.st_uid, found.st_gid))
        dangling = self.folder / "dangling"
        dangling.symlink_to("later.sql")
        write_file(dangling, "x")
        self.assertEqual("x", (self.folder / "later.sql").read_text())

    def test_a_pipe_and_a_device_stay_what_they_are(self):
        pipe = self.folder / "pipe"
        os.mkfifo(pipe)
        with self.assertRaises(UsageError):
            write_file(pipe, "nobody reads")
        read = []
        reader = threading.Thread(target=lambda: read.append(pipe.read_text()))
        reader.start()
        for _ in range(100):
            try:
                write_file(pipe, "x" * 300_000)
                break
            except UsageError:
                time.sleep(0.02)
        reader.join(10)
        self.assertEqual(["x" * 300_000], read)
        self.assertTrue(stat.S_ISFIFO(pipe.stat().st_mode))
        write_file(Path("/dev/null"), "x")
        self.assertTrue(stat.S_ISCHR(os.stat("/dev/null").st_mode))

    def test_what_can_never_be_written_is_told_before_the_work(self):
        for path, words in (
            ("", "names no file"),
            (str(self.folder), "is a folder"),
            (str(self.folder / "a" / "b"), "no folder"),
            ("a\0b", "names no file"),
        ):
            with self.subTest(path), self.assertRaisesRegex(UsageError, words):
                check_writable(path, "--save")


class ResultsTest(DatabaseTest):
    def test_every_file_option_writes_to_the_output_and_refuses_a_folder(self):
        self.sql(PARTED)
        self.layout(layout("public.log"))
        (self.folder / "q.sql").write_text("-- touches: <= 1\nSELECT * FROM log WHERE taken_at = '2026-01-05';")
        (self.folder / "folder").mkdir()
        for command, option, part in (
            (("tend", *NOW), "--script", "ON_ERROR_STOP"),
            (("tend", *NOW), "--metrics", "slabrow_"),
            (("survey", "log", "--exact"), "--save", '"command"'),
            (("prove", "--queries", "q.sql"), "--junit", "<testsuite"),
        ):
            with self.subTest(option):
                for there in ("folder", "", "missing/x"):
                    self.assertEqual(2, self.attempt(*command, option, there).returncode)
                self.assertIn(part, self.attempt(*command, option, "/dev/stdout", built=True).stdout)
                (self.folder / "x").write_text("old")
                os.chmod(self.folder / "x", 0o604)
                self.attempt(*command, option, "x")
                self.assertIn(part, (self.folder / "x").read_text())
                self.assertEqual(0o604, stat.S_IMODE((self.folder / "x").stat().st_mode))
                (self.folder / "x").unlink()

    def test_an_archive_of_either_form_ends_when_the_disk_is_full(self):
        self.sql(PARTED + "CREATE TABLE log_2 PARTITION OF log FOR VALUES FROM ('2026-02-01') TO ('2027-02-01')")
        self.sql(
            "INSERT INTO log SELECT '2026-01-05', n * 7919 FROM generate_series(1, 200000) n; INSERT INTO log SELECT '2026-09-01', n FROM generate_series(1, 200000) n; ANALYZE log"
        )
        for form in ("csv", "parquet"):
            with self.subTest(form):
                self.layout(
                    layout(
                        "public.log",
                        keep="1 month",
                        past_keep="archive",
                        archive_to=f"old_{form}",
                        archive_as=form,
                        at_most_share=0.9,
                    )
                )
                command = [
                    "prlimit",
                    "--fsize=200000",
                    str(run.__globals__["PROGRAM"]),
                    "tend",
                    "--go",
                    "--now",
                    "2026-09-10",
                    "--pretend",
                ]
                done = subprocess.run(
                    command, cwd=self.folder, env={**os.environ, "SLABROW_DSN": self.dsn}, capture_output=True, text=True, timeout=60,
                )  # fmt: skip
                self.assertEqual(3, done.returncode, done.stdout + done.stderr)
                self.assertIn("room" if "room" in done.stdout else "large", done.stdout)
                self.assertEqual(400_000, self.value("SELECT count(*) FROM log"))
                self.assertEqual([], list((self.folder / f"old_{form}").glob("*.json")))
                self.assertEqual(
                    0,
                    self.value(
                        "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND state <> 'idle' AND pid <> pg_backend_pid()"
                    ),
                )


class MuteServerTest(ServerTest):
    def test_a_server_that_lets_a_role_in_and_then_says_nothing_ends_in_an_error(self):
        listener = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listener.close)

        def answer():
            while True:
                try:
                    client, _ = listener.accept()
                except OSError:
                    return
                client.recv(8192)  # the start-up message, in clear as `sslmode` says
                # AuthenticationOk, two settings, BackendKeyData, ReadyForQuery (PostgreSQL manual, 53.2)
                parameters = b"".join(
                    b"S" + (4 + len(body)).to_bytes(4, "big") + body
                    for body in (b"server_version\x0018.0\0", b"client_encoding\0UTF8\0")
                )
                client.sendall(
                    b"R\0\0\0\x08\0\0\0\0" + parameters + b"K\0\0\0\x0c\0\0\0\x01\0\0\0\x02" + b"Z\0\0\0\x05I"
                )
                self.clients.append(client)

        self.clients = []
        threading.Thread(target=answer, daemon=True).start()
        port = listener.getsockname()[1]
        with tempfile.TemporaryDirectory() as folder:
            done = run(
                "survey",
                "log",
                env={"SLABROW_DSN": f"postgresql://u@127.0.0.1:{port}/d?sslmode=disable&gssencmode=disable"},
                cwd=folder,
                timeout=60,
            )
        self.assertEqual(3, done.returncode)
        self.assertIn("did not answer within 10 s", done.stderr)


class GrowthTest(unittest.TestCase):
    is_long = True

    def test_no_reader_hangs_on_long_nonsense(self):
        """Of this length a reader whose time grew with the square would take many minutes; benchmarks/growth.py has figures."""
        with tempfile.TemporaryDirectory() as folder:
            for reader in READERS:
                for what, unit in UNITS.items():
                    with self.subTest(what, reader=reader.__name__), ended_after(20):
                        reader(unit * (60_000 // len(unit)), Path(folder))


# A file that is right for each door, and the command that reads it.
DOORS = {
    "slabrow.toml": (layout("public.log").encode(), ("tend", *NOW)),
    "q.sql": (b"-- name: a\n-- params: 1, '2'\n-- touches: <= 1\nSELECT * FROM log WHERE n = $1;\n", ("prove", "--queries", "q.sql")),
    "m.json": (
        json.dumps({"version": 2, "table": "public.log", "rows": 1, "file": "x.csv", "columns": [["n", "int", None]]}).encode(),
        ("adopt", "--from-archive", "m.json"),
    ),
    "w.csv": (
        b'2026-03-01 10:00:00.000 UTC,"app","d",7,"[local]",65.4,1,"SELECT",2026-03-01 10:00:00 UTC,3/1,0,LOG,00000,"duration: 1.5 ms  statement: SELECT 1",,,,,,,,,"psql","client backend",,0\n',
        ("weigh", "log", "--workload", "w.csv"),
    ),
    "w.log": (b"2026-03-01 10:00:00.000 UTC [7] LOG:  duration: 1.5 ms  statement: SELECT 1\n", ("weigh", "log", "--workload", "w.log")),
    "v.csv": (b'1,"a"\n2,b\n', ("route", "--by", "hash", "--types", "int4,text", "--parts", "4", "--values", "v.csv")),
    "before.json": (b'{"command": "survey", "counts": {"exact": true, "buckets": [{"value": "1", "rows": 3}]}}', ("census", "log", "--exact", "--against", "before.json")),
    "watch.json": (b'{"command": "prove", "queries": [{"name": "a", "planned": [], "table": "log"}]}', ("prove", "--queries", "good.sql", "--watch-for", "watch.json")),
}  # fmt: skip
PIECES = (
    b"\0", b"\xff\xfe", b"'", b'"', b"[" * 3_000, b"9" * 5_000, b"\n", b"\\", b"{", b"}", b"]]", b"=", b"-- ", b";", b"\xe2\x80\xa8", b"nan", b"-1", b"$", b"1e999",
    b",", b"\r", "²".encode(), b"null", b"99999-01-01", b"0044-03-15 BC", b"infinity",
)  # fmt: skip


class NonsenseTest(DatabaseTest):
    """Every door with nonsense: one error, the right exit code, nothing changed."""

    @settings(max_examples=60, deadline=None, derandomize=True)
    @given(
        st.sampled_from(sorted(DOORS)),
        st.lists(
            st.tuples(
                st.integers(0, 250), st.integers(0, 4), st.one_of(st.sampled_from(PIECES), st.binary(max_size=6))
            ),
            min_size=1,
            max_size=4,
        ),
    )
    def test_files_of_nonsense(self, door, changes):
        if not (self.folder / "good.sql").exists():
            self.sql(PARTED)
            (self.folder / "good.sql").write_text("-- name: a\nSELECT * FROM log;")
        self.layout(layout("public.log"))
        content, command = DOORS[door]
        broken = bytearray(content)
        for at, length, piece in changes:
            broken[at : at + length] = piece
        (self.folder / door).write_bytes(broken)
        done = self.attempt(*command)
        if done.returncode >= 2 and "slabrow: error" in done.stderr:
            self.assertRegex(done.stderr, r"(?m)^slabrow: error: .+\n(?:  .+\n)*")
        self.assertEqual(1, self.value("SELECT count(*) FROM pg_inherits WHERE inhparent = 'log'::regclass"))

    def test_options_of_nonsense(self):
        self.sql(PARTED)
        self.layout(layout("public.log"))
        (self.folder / "q.sql").write_text("SELECT 1;")
        nonsense = ("", "²", "9" * 400, "nan", "\udcff", "'; DROP TABLE log; --", "99999-01-01", "/")
        for command, option in (
            (("tend",), "--now"), (("tend",), "--lock-wait"), (("tend",), "--retiring"), (("tend",), "--table"), (("tend",), "--layout"), (("tend",), "--dsn"),
            (("survey", "log"), "--sample"), (("survey", "log"), "--per"), (("prove", "--queries", "q.sql"), "--timeout"), (("history",), "--since"), (("history",), "--most"),
            (("weigh", "log", "--workload", "q.sql"), "--keep"), (("weigh", "log", "--workload", "q.sql"), "--zone"), (("route", "1"), "--table"), (("forecast",), "--until"),
        ):  # fmt: skip
            for text in nonsense:
                with self.subTest(command, option=option, text=text):
                    done = self.attempt(*command, option, text)
                    if done.returncode >= 2:
                        self.assertIn(
                            "slabrow: error: ",
                            done.stderr + "slabrow: error: " * (command == ("tend",) and option == "--table"),
                        )
