"""The manual is true: its commands and options exist, its examples work, its links lead somewhere."""

import json
import re
import shlex
import tempfile
import unittest

from slabrow.cli.examples import every_example
from slabrow.cli.main import COMMANDS
from slabrow.files.layout_file import parse_layouts
from tests.support import ROOT, ServerTest, run

README = (ROOT / "README.md").read_text()


class ReadmeTest(unittest.TestCase):
    def test_every_command_stands_in_it(self):
        self.assertEqual([], [name for name in COMMANDS if f"slabrow {name}" not in README])

    def test_every_option_it_names_is_known_to_its_command(self):
        helps = {name: run(name, "--help").stdout for name in COMMANDS}
        everywhere = "".join(helps.values())
        for command, words in re.findall(r"slabrow (\w+)([^`\n]*)", README):
            for option in re.findall(r"--[a-z-]+", words):
                with self.subTest(command=command, option=option):
                    self.assertIn(option, helps[command])
        for option in set(re.findall(r"(?<![\w-])--[a-z][a-z-]+", README)):
            with self.subTest(option):
                self.assertIn(option, everywhere)

    def test_every_example_of_a_help_is_understood(self):
        for command, example in every_example():
            with self.subTest(example):
                self.assertIn(f"slabrow {example}", run(command, "--help").stdout)
                told = run(*shlex.split(example), "--no-such-option").stderr
                self.assertIn("unrecognized arguments: --no-such-option", told)

    def test_its_layout_is_a_layout(self):
        for text in re.findall(r"```toml\n(.*?)```", README + (ROOT / "docs" / "layout.md").read_text(), re.DOTALL):
            self.assertEqual(1, len(parse_layouts(text, "README")))

    def test_its_links_lead_somewhere(self):
        for page in [ROOT / "README.md", *(ROOT / "docs").rglob("*.md")]:
            for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
                with self.subTest(page=page.name, target=target):
                    self.assertTrue((page.parent / target).exists())

    def test_screenshots_are_few_and_all_shown(self):
        pictures = [path.name for path in (ROOT / "docs" / "screenshots").glob("*.png")]
        self.assertLess(len(pictures), 20)
        self.assertEqual([], [name for name in pictures if name not in README])


class SchemaTest(unittest.TestCase):
    def test_each_command_with_a_result_has_a_schema(self):
        described = {path.name.split(".")[0] for path in (ROOT / "docs" / "json").glob("*.json")}
        self.assertEqual(set(COMMANDS) - {"demo", "report", "complete"}, described)
        for path in (ROOT / "docs" / "json").glob("*.json"):
            self.assertIn("$schema", json.loads(path.read_text()))


class WalkTest(ServerTest):
    """The README's walk, as somebody does it who knows nothing: every command in its order, with a smaller table."""

    def test_the_walk_can_be_done_as_it_is_printed(self):
        text = README.split("## The walk", 1)[1].split("## Rules of every command", 1)[0]
        lines = [line for block in re.findall(r"```sh\n(.*?)```", text, re.DOTALL) for line in block.splitlines()]
        commands = [line for line in lines if line.startswith("slabrow ")]
        self.assertGreater(len(commands), 15)
        with tempfile.TemporaryDirectory() as folder:
            environment = {"XDG_STATE_HOME": folder}
            loading, *others, stopping = commands
            loaded = run(*shlex.split(loading)[1:], "--rows", "20000", cwd=folder, env=environment)
            try:
                where = re.search(r"cd (\S+)", loaded.stdout).group(1)
                environment["SLABROW_DSN"] = re.search(r"export SLABROW_DSN='(.*)'", loaded.stdout).group(1)
                for line in others:
                    command, _, remark = line.partition("   #")
                    with self.subTest(command):
                        done = run(*shlex.split(command)[1:], cwd=where, env=environment, pretends=False)
                        expected = int(re.match(r" exit (\d)", remark).group(1)) if remark else 0
                        self.assertEqual((expected, ""), (done.returncode, noteless(done.stderr)), done.stdout)
            finally:
                stopped = run(*shlex.split(stopping)[1:], env=environment)
            self.assertIn("is stopped", stopped.stdout)


def noteless(errors):
    """Standard error without the remarks that a command may make."""
    return "".join(line for line in errors.splitlines() if not re.match(r"slabrow: (?!error)", line))
