"""The shell and the manual: completion by the shells themselves, pages that say what --help says, rules for what is written."""

import importlib.util
import os
import re
import shutil
import subprocess
import time
import unittest

from slabrow.cli.main import COMMANDS
from tests.support import PROGRAM, ROOT, DatabaseTest, run

BASH = """
source <(slabrow complete bash)
COMP_LINE="$1"; COMP_POINT=${#1}; COMP_TYPE=9; read -ra COMP_WORDS <<< "$1"
[[ "$1" == *" " ]] && COMP_WORDS+=("")
COMP_CWORD=$((${#COMP_WORDS[@]}-1)); _python_argcomplete slabrow; printf '%s\\n' "${COMPREPLY[@]}"
"""


class CompletionTest(DatabaseTest):
    def setUp(self):
        super().setUp()
        self.sql("CREATE TABLE hive (a int) PARTITION BY RANGE (a)")
        self.sql("CREATE TABLE hive_one PARTITION OF hive FOR VALUES FROM (1) TO (9)")
        self.sql('CREATE TABLE "Odd; $(touch x)" (a int)')
        (self.folder / "q.sql").write_text("-- name: first-one\nSELECT 1;\n-- name: other\nSELECT 2;\n")
        self.layout('[[layout]]\ntable = "declared.only"\nby = "hash"\nkey = ["a"]\nparts = 2\n')

    def completed(self, line, dsn=None):
        environment = {**os.environ, "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}", "SLABROW_DSN": dsn or self.dsn}
        done = subprocess.run(
            ["bash", "-c", BASH, "bash", line], capture_output=True, text=True, env=environment, cwd=self.folder
        )
        self.assertEqual("", done.stderr)
        return {word.strip() for word in done.stdout.splitlines()} - {""}

    def test_what_bash_is_offered(self):
        for line, wanted, unwanted in (
            ("slabrow ", {"survey", "weigh", "rehearse"}, {"--dsn"}),
            ("slabrow re", {"release", "rehearse", "report"}, {"survey"}),
            ("slabrow prove --la", {"--laid-out", "--layout"}, set()),
            ("slabrow weigh --by ", {"range", "list", "hash"}, set()),
            ("slabrow survey public.h", {"public.hive"}, {"public.hive_one"}),
            ("slabrow forecast decl", {"declared.only"}, set()),
            ("slabrow split public.h", {"public.hive_one"}, {"public.hive"}),
            ("slabrow release public.hive", {"public.hive_one"}, set()),
            ("slabrow prove --queries q.sql --only f", {"first-one"}, {"other"}),
            ("slabrow rehearse --layout sl", {"slabrow.toml"}, {"q.sql"}),
            ("slabrow bogus ", set(), {"survey"}),
        ):
            with self.subTest(line):
                found = self.completed(line)
                self.assertLessEqual(wanted, found)
                self.assertEqual(set(), unwanted & found)
        self.completed("slabrow survey public.")
        self.assertFalse((self.folder / "x").exists())

    def test_a_dead_server_gives_no_names_and_no_words(self):
        began = time.monotonic()
        self.assertEqual({"declared.only"}, self.completed("slabrow survey d", dsn="postgresql://127.0.0.1:1/none"))
        self.assertLess(time.monotonic() - began, 20)

    def test_each_shell_reads_its_script(self):
        for shell, check in (("bash", ["bash", "-n"]), ("zsh", ["zsh", "-n"]), ("fish", ["fish", "-n"])):
            text = run("complete", shell).stdout
            self.assertIn("slabrow", text)
            if shutil.which(shell) is not None:
                done = subprocess.run(check, input=text, capture_output=True, text=True)
                self.assertEqual((0, ""), (done.returncode, done.stderr), shell)
        self.assertEqual(2, run("complete", "csh").returncode)

    def test_only_the_queries_that_are_named(self):
        done = self.json("prove", "--queries", "q.sql", "--only", "other")
        self.assertEqual(["other"], [each["name"] for each in done["unproven"]])
        self.assertIn(
            "did you mean first-one?", self.slabrow("prove", "--queries", "q.sql", "--only", "first-on", code=2).stderr
        )


class ManualTest(unittest.TestCase):
    def pages(self):
        spec = importlib.util.spec_from_file_location("manual", ROOT / "docs" / "man" / "make.py")
        module = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(module)
        return module.pages()

    def test_the_pages_are_those_of_the_parsers(self):
        made = self.pages()
        self.assertEqual({f"slabrow-{name}.1" for name in COMMANDS} | {"slabrow.1"}, set(made))
        for name, page in made.items():
            # How a usage line is broken and ordered is Python's own; it differs between its versions.
            kept, made_now = (re.sub(r"\.SH SYNOPSIS\n.*?\.SH", ".SH", text, flags=re.DOTALL)
                              for text in ((ROOT / "docs" / "man" / name).read_text(), page))  # fmt: skip
            self.assertEqual(kept, made_now, f"{name}: run docs/man/make.py")

    def test_every_option_stands_in_its_page(self):
        for command in COMMANDS:
            page = (ROOT / "docs" / "man" / f"slabrow-{command}.1").read_text().replace("\\-", "-")
            options = set(re.findall(r"(?<![\w-])--[a-z][a-z-]+", run(command, "--help").stdout))
            self.assertEqual(set(), {option for option in options if f"{option}" not in page}, command)

    def test_a_manual_program_reads_them(self):
        if shutil.which("man") is None:
            self.skipTest("no man here")
        for path in sorted((ROOT / "docs" / "man").glob("*.1")):
            done = subprocess.run(
                ["man", "-l", str(path)], capture_output=True, text=True, env={**os.environ, "MANWIDTH": "90"}
            )
            self.assertEqual(0, done.returncode, done.stderr)
            self.assertIn("EXIT STATUS", done.stdout)


class MonitoringTest(DatabaseTest):
    def test_the_rules_ask_for_measures_that_are_written(self):
        self.sql("CREATE TABLE t (at timestamptz NOT NULL) PARTITION BY RANGE (at)")
        self.layout('[[layout]]\ntable = "t"\nby = "range"\nkey = ["at"]\nspan = "1 month"\nahead = "2 months"\ncatch_all = true\n'
                    'keep = "1 year"\npast_keep = "drop"\nwanted = { partitions = 100 }\n')  # fmt: skip
        self.slabrow("tend", "--go")
        self.slabrow("tend", "--check", "--metrics", "m.prom", code=0)
        written = set(re.findall(r"^(slabrow_\w+)[ {]", (self.folder / "m.prom").read_text(), re.MULTILINE))
        text = (ROOT / "docs" / "monitoring" / "alerts.yml").read_text()
        asked = {name for line in text.splitlines() if "expr:" in line for name in re.findall(r"slabrow_\w+", line)}
        self.assertGreater(len(asked), 8)
        self.assertLessEqual(asked, written)
        rules = re.split(r"\n      - alert: ", text)[1:]
        self.assertEqual(text.count("expr:"), len(rules))
        self.assertTrue(all("summary:" in rule and "severity:" in rule for rule in rules))
        for command in re.findall(r"do: \"slabrow (\w+)", text):
            self.assertIn(command, COMMANDS)

    def test_the_recipe_for_builds(self):
        (self.folder / "schema.sql").write_text(
            "CREATE TABLE t (a int) PARTITION BY RANGE (a);\nCREATE TABLE t1 PARTITION OF t FOR VALUES FROM (1) TO (5);\n"
            "CREATE TABLE t2 PARTITION OF t FOR VALUES FROM (5) TO (9);\n"
        )
        environment = {**os.environ, "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}"}
        for limit, code in ((2, 0), (1, 1)):
            (self.folder / "queries.sql").write_text(
                f"-- name: q\n-- touches: <= {limit}\nSELECT * FROM t WHERE a + 0 = 1;\n"
            )
            done = subprocess.run(
                ["sh", ROOT / "docs" / "monitoring" / "prove.sh"],
                cwd=self.folder,
                env=environment,
                capture_output=True,
                text=True,
            )
            self.assertEqual(code, done.returncode, done.stderr)
            junit = (self.folder / "slabrow-junit.xml").read_text()
            self.assertEqual(code, junit.count("<failure"))
        (self.folder / "queries.sql").unlink()
        done = subprocess.run(
            ["sh", ROOT / "docs" / "monitoring" / "prove.sh"],
            cwd=self.folder,
            env=environment,
            capture_output=True,
            text=True,
        )
        self.assertEqual(2, done.returncode)


if __name__ == "__main__":
    unittest.main()
