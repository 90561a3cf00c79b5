"""The manual is true: its commands and options exist, its examples work, its links lead somewhere."""

import json
import re
import unittest

from slabrow.cli.main import COMMANDS
from slabrow.files.layout_file import parse_layouts
from tests.support import ROOT, run

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
        self.assertEqual(set(COMMANDS) - {"demo"}, described)
        for path in (ROOT / "docs" / "json").glob("*.json"):
            self.assertIn("$schema", json.loads(path.read_text()))
