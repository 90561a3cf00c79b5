"""A private MariaDB, started once a run on a socket of its own, and tests on it. It is the one that the demo starts."""

import atexit
import itertools
import json
import tempfile
from functools import cache
from pathlib import Path

from slabrow.servers.mariadb.private.server import start
from tests.support import ServerTest, begin, run, validator

_databases = itertools.count(1)


@cache
def server():
    """Shared by all tests of a process. Raises when no MariaDB is installed: then the tests fail, by name."""
    made = start()
    atexit.register(made.stop)
    return made


def connect(database=None):
    """A driver's connection, as root."""
    import pymysql

    return pymysql.connect(
        unix_socket=f"{server().folder}/s", user="root", charset="utf8mb4", autocommit=True, database=database
    )


class MariaTest(ServerTest):
    """A database and a folder of its own for each test."""

    family = "mariadb"

    def setUp(self):
        super().setUp()
        self.database = f"test_{next(_databases)}"
        self.connection = connect()
        self.addCleanup(self.connection.close)
        self.sql("SET SESSION lock_wait_timeout = 10")  # a session that a fault has left must not hold up the tests
        self.sql(f"CREATE OR REPLACE DATABASE {self.database}")
        self.addCleanup(self.sql, f"DROP DATABASE IF EXISTS {self.database}")
        self.sql(f"USE {self.database}")
        self.dsn = server().dsn.replace("/?", f"/{self.database}?")
        folder = tempfile.TemporaryDirectory(prefix="slabrow-test-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def dsn_as(self, user):
        return self.dsn.replace("root@", f"{user}@")

    def layout(self, text):
        (self.folder / "slabrow.toml").write_text(f'[ledger]\nschema = "{self.database}_ledger"\n{text}')
        self.addCleanup(self.sql, f"DROP DATABASE IF EXISTS {self.database}_ledger")

    def slabrow(self, *arguments, code=0, env=None, dsn=None, built=False):
        """Runs the program on this test's database, in its folder, and checks the exit code."""
        done = run(*arguments, env={"SLABROW_DSN": dsn or self.dsn, **(env or {})}, cwd=self.folder, built=built)
        self.assertEqual(
            code, done.returncode, f"slabrow {' '.join(map(str, arguments))}\n{done.stdout}\n{done.stderr}"
        )
        self.assertNotIn("Traceback", done.stderr)
        return done

    def begin(self, *arguments):
        """The built program on this test's database, in its folder, still running."""
        return begin(*arguments, cwd=self.folder, env={"SLABROW_DSN": self.dsn})

    def json(self, command, *arguments, code=0, **options):
        """As `slabrow`, with --format json; the document is checked against its schema."""
        document = json.loads(self.slabrow(command, *arguments, "--format", "json", code=code, **options).stdout)
        validator(command).validate(document)
        return document

    def sql(self, query, *parameters):
        """All rows of a statement."""
        with self.connection.cursor() as cursor:
            cursor.execute(query, parameters or None)
            return list(cursor.fetchall())

    def value(self, query, *parameters):
        return self.sql(query, *parameters)[0][0]
