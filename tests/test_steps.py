"""Steps of long work on a real server: done once, recorded, taken up again after a failure, and taken back."""

from datetime import UTC, datetime
from pathlib import Path

from slabrow.core.upkeep.statements import Statement, Transaction
from slabrow.core.upkeep.steps import LongWork, Step
from slabrow.core.values.errors import ServerError
from slabrow.core.values.names import Name
from slabrow.servers.families import open_session
from slabrow.work.context import Context
from slabrow.work.step_runner import StepRunner
from tests.support import DatabaseTest
from tests.test_program_convert import PLAIN, layout

NOW = ("--now", "2026-03-01")


def step(name, makes):
    """A step that makes a table, and is done when the table is there."""
    return Step(
        name=name,
        transaction=Transaction(f"make {makes}", (Statement(f"CREATE TABLE {makes} (n int)"),)),
        is_done=f"SELECT to_regclass('{makes}') IS NOT NULL",
        undo=Transaction(f"drop {makes}", (Statement(f"DROP TABLE {makes}"),)),
    )


class StepsTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.session = open_session(self.dsn)
        self.addCleanup(self.session.close)
        ledger = self.session.ledger("upkeep")
        ledger.prepare()
        context = Context(self.dsn, Path("none.toml"), None, datetime.now(UTC))
        self.runner = StepRunner(context, self.session, ledger)
        self.work = LongWork(
            kind="convert", table=Name("public", "t"), steps=(step("one", "first"), step("two", "second"))
        )

    def states(self, reports):
        return [(report.name, str(report.state)) for report in reports]

    def recorded(self):
        return self.sql("SELECT details->>'step', state FROM upkeep.ledger ORDER BY entry")

    def test_each_step_is_done_once_and_recorded(self):
        self.assertEqual([("one", "done"), ("two", "done")], self.states(self.runner.do(self.work)))
        self.assertEqual([("one", "already"), ("two", "already")], self.states(self.runner.do(self.work)))
        self.assertEqual([("one", "done"), ("two", "done")], self.recorded())

    def test_work_that_failed_goes_on_at_the_step_that_failed(self):
        self.sql("CREATE TYPE second AS ENUM ()")  # its name stands in the way of the second table
        with self.assertRaises(ServerError):
            self.runner.do(self.work)
        self.sql("DROP TYPE second")
        self.assertEqual([("one", "already"), ("two", "done")], self.states(self.runner.do(self.work)))
        self.assertEqual([("one", "done"), ("two", "failed"), ("two", "done")], self.recorded())

    def test_what_is_done_is_taken_back_the_last_first(self):
        self.runner.do(LongWork(kind="convert", table=self.work.table, steps=self.work.steps[:1]))
        self.assertEqual([("one", "undone")], self.states(self.runner.undo(self.work)))
        self.runner.do(self.work)
        self.assertEqual([("two", "undone"), ("one", "undone")], self.states(self.runner.undo(self.work)))
        self.assertIsNone(self.value("SELECT to_regclass('first')"))

    def test_a_conversion_stands_in_the_ledger_also_when_it_was_killed(self):
        self.sql(PLAIN.replace("700", "300000").replace("3 hours", "10 seconds"))
        self.layout(layout(catch_all=True))
        self.sql("CREATE SCHEMA slabrow")
        self.session.ledger("slabrow").prepare()
        copying = (
            "SELECT count(*) > 0 FROM pg_stat_activity WHERE query LIKE 'INSERT INTO%' AND datname = current_database()"
        )
        process = self.begin("convert", "--way", "locked", "--go", *NOW)
        self.wait_until(copying)
        process.kill()
        process.communicate()
        states = [(each["kind"], each["state"]) for each in self.json("history")["entries"]]
        self.assertEqual([("convert", "begun")], states)
        self.wait_until(copying.replace("> 0", "= 0"))
        done = self.json("convert", "--way", "locked", "--go", *NOW)
        self.assertEqual(["done"], [each["state"] for each in done["steps"]])
        states = [(each["kind"], each["state"]) for each in self.json("history")["entries"]]
        self.assertEqual([("convert", "done"), ("convert", "begun")], states)
        self.assertEqual(300_000, self.value("SELECT count(*) FROM apiary.log"))
