"""The house: imports run downwards, in no circle, and only `servers` knows a server family. Documents keep to it too."""

import ast
import re
import unittest
from functools import cache

from slabrow.servers import FAMILY_NAMES
from slabrow.servers.families import FAMILIES
from tests.support import ROOT

SOURCE = ROOT / "src" / "slabrow"
# What a folder may import: itself and what stands further right. `demo` and `cli` are clients of all the others.
LAYERS = ("cli", "demo", "show", "work", "servers", "files", "core")
CORE = ("rehearsal", "weighing", "statistics", "rewriting", "pruning", "upkeep", "hashing", "sql", "table", "values")
LONGEST_MODULE = 500  # lines


@cache
def modules():
    """Each module by its dotted name, with what it imports when it is loaded (not only when a function runs)."""
    found = {}
    for path in sorted(SOURCE.rglob("*.py")):
        name = ".".join(path.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__")
        found[name] = path
    return {name: (path, set(imported(ast.parse(path.read_text()), found))) for name, path in found.items()}


def imported(node, known, *, everywhere=False):
    for each in ast.iter_child_nodes(node):
        if isinstance(each, ast.ImportFrom) and each.module is not None:
            whole = [f"{each.module}.{name.name}" for name in each.names]
            yield from (name if name in known else each.module for name in whole)
        elif isinstance(each, ast.Import):
            yield from (name.name for name in each.names)
        elif isinstance(each, ast.If) and "TYPE_CHECKING" in ast.unparse(each.test) and not everywhere:
            continue
        elif everywhere or not isinstance(each, ast.FunctionDef | ast.AsyncFunctionDef):
            yield from imported(each, known, everywhere=everywhere)


def layer(name, places):
    parts = name.split(".")
    return next((place for place, part in enumerate(places) if part in parts[1:3]), None)


class HouseTest(unittest.TestCase):
    def test_imports_run_downwards(self):
        for name, (path, _) in modules().items():
            for other in imported(ast.parse(path.read_text()), modules(), everywhere=True):
                if not other.startswith("slabrow."):
                    continue
                above, below = layer(name, LAYERS), layer(other, LAYERS)
                with self.subTest(name, imports=other):
                    self.assertFalse(None not in (above, below) and above > below)
                    if name.startswith("slabrow.core.") and other.startswith("slabrow.core."):
                        self.assertLessEqual(layer(name, CORE), layer(other, CORE))

    def test_core_imports_no_driver_and_nothing_that_prints_or_waits(self):
        barred = {"psycopg", "rich", "matplotlib", "time", "socket", "subprocess", "os", "pathlib", "threading"}
        for name, (path, _) in modules().items():
            if name.startswith("slabrow.core"):
                roots = {
                    each.split(".")[0] for each in imported(ast.parse(path.read_text()), modules(), everywhere=True)
                }
                self.assertEqual(set(), roots & barred, name)

    def test_no_import_goes_round_in_a_circle(self):
        state = {}

        def visit(name, way):
            if state.get(name) == "left":
                return
            self.assertNotEqual("entered", state.get(name), " imports ".join((*way, name)))
            state[name] = "entered"
            for other in modules()[name][1]:
                if other in modules() and other != name:
                    visit(other, (*way, name))
            state[name] = "left"

        for name in modules():
            visit(name, ())

    def test_above_the_servers_nothing_names_a_family_or_its_driver(self):
        names = "|".join({each.traits.name for each in FAMILIES} | {"psycopg", "postgres", "pg_catalog", "pg_class"})
        for name, (path, _) in modules().items():
            if layer(name, LAYERS) in (LAYERS.index("cli"), LAYERS.index("show"), LAYERS.index("work")):
                self.assertEqual([], re.findall(rf"(?i)\b\w*(?:{names})\w*", path.read_text()), name)

    def test_rules_of_pruning_are_reached_through_the_family_only(self):
        ruled = {f"slabrow.core.pruning.{each}" for each in ("queries", "binding", "contradictions")}
        for name, (_, others) in modules().items():
            if not name.startswith("slabrow.core.pruning."):
                self.assertEqual(set(), ruled & set(others), name)

    def test_the_help_names_every_family(self):
        self.assertEqual(FAMILY_NAMES, tuple(each.traits.name for each in FAMILIES))

    def test_a_module_fits_into_a_head(self):
        for name, (path, _) in modules().items():
            self.assertLessEqual(len(path.read_text().splitlines()), LONGEST_MODULE, name)

    def test_public_names_say_what_they_are(self):
        total, missing = 0, []
        for name, (path, _) in modules().items():
            tree = ast.parse(path.read_text())
            self.assertTrue(ast.get_docstring(tree), name)
            for owner, node in [(None, each) for each in tree.body] + [
                (each, inner) for each in tree.body if isinstance(each, ast.ClassDef) for inner in each.body
            ]:
                if isinstance(node, ast.FunctionDef | ast.ClassDef) and not node.name.startswith("_"):
                    if owner is not None and owner.name.startswith("_"):
                        continue
                    total += 1
                    missing += [] if ast.get_docstring(node) else [f"{name}.{node.name}"]
        self.assertLessEqual(len(missing) / total, 0.05, missing)
