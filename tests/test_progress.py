"""The progress bar: what is being done and how long it will take, on a terminal only."""

import os
import pty
import re
import select
import subprocess
import time
import unittest

from slabrow.cli.progress_bar import time_left
from tests.support import PROGRAM, DatabaseTest


class ProgressTest(DatabaseTest):
    def on_a_terminal(self, *arguments, seconds=60):
        """What the built program writes to a terminal as its standard error."""
        ours, theirs = pty.openpty()
        process = subprocess.Popen(
            [PROGRAM, *arguments], stdout=subprocess.PIPE, stderr=theirs, cwd=self.folder,
            env={**os.environ, "SLABROW_DSN": self.dsn, "TERM": "xterm", "COLUMNS": "160"},
        )  # fmt: skip
        os.close(theirs)
        said, end = b"", time.monotonic() + seconds
        while time.monotonic() < end and (process.poll() is None or select.select([ours], [], [], 0)[0]):
            if select.select([ours], [], [], 0.1)[0]:
                try:
                    said += os.read(ours, 65_536)
                except OSError:
                    break
        os.close(ours)
        process.communicate(timeout=20)
        self.assertEqual(0, process.returncode, said)
        return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", said.decode())

    def test_a_long_count_says_what_it_does_and_how_long_it_takes(self):
        self.sql("CREATE TABLE t (k int NOT NULL, note text)")
        self.sql("INSERT INTO t SELECT n, repeat('x', 50) FROM generate_series(1, 200000) n")
        self.sql("ANALYZE t")
        self.sql("UPDATE pg_class SET reltuples = 2e8 WHERE oid = 't'::regclass")  # as if it were a large one
        said = self.on_a_terminal("survey", "t", "--exact")
        self.assertIn("counting the rows of t", said)
        self.assertRegex(said, r"about \d+ (s|min) left")
        self.assertRegex(said, r"\d+ %")

    def test_long_work_says_how_long_it_takes(self):
        self.sql("CREATE TABLE t (k int PRIMARY KEY, note text)")
        self.sql("INSERT INTO t SELECT n, repeat('x', 300) FROM generate_series(1, 300000) n")
        self.sql("ANALYZE t")
        self.layout('[[layout]]\ntable = "t"\nby = "hash"\nkey = ["k"]\nparts = 4\n')
        said = self.on_a_terminal("convert", "t", "--go", "--speed", "60000")
        self.assertRegex(said, r"about \d+ s left +copy")

    def test_the_time_left_in_words(self):
        for seconds, words in (
            (0.4, "nearly done"),
            (5.2, "about 5 s left"),
            (99, "about 99 s left"),
            (600, "about 10 min left"),
        ):
            self.assertEqual(words, time_left(seconds))


if __name__ == "__main__":
    unittest.main()
