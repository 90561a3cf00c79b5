"""A statement whose shape was read before is predicted as if it had been read by itself."""

import unittest
from dataclasses import replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from slabrow.core.pruning.family_rules import USUAL_RULES
from slabrow.core.pruning.predict import Predictor
from slabrow.core.pruning.pruner import Pruner
from slabrow.core.sql.constant_values import Surroundings
from slabrow.core.sql.definitions import read_definitions
from slabrow.core.sql.statement_shapes import can_be_marked, filled, literals_and_repeats, marked

DEFINITIONS = """
CREATE TABLE hashed (k bigint, l text) PARTITION BY HASH (k, l);
CREATE TABLE hashed_0 PARTITION OF hashed FOR VALUES WITH (MODULUS 2, REMAINDER 0);
CREATE TABLE hashed_1 PARTITION OF hashed FOR VALUES WITH (MODULUS 4, REMAINDER 1);
CREATE TABLE hashed_3 PARTITION OF hashed FOR VALUES WITH (MODULUS 4, REMAINDER 3);
CREATE TABLE ranged (k int, l text) PARTITION BY RANGE (k);
CREATE TABLE ranged_low PARTITION OF ranged FOR VALUES FROM (0) TO (100);
CREATE TABLE ranged_mid PARTITION OF ranged FOR VALUES FROM (100) TO (200);
CREATE TABLE ranged_high PARTITION OF ranged FOR VALUES FROM (200) TO (MAXVALUE);
"""
# Statements of one shape, as long as equal literals are not looked at.
ALIKE = [
    ("hashed", ["(k = 1 AND l = 'x') OR (k = 1 AND l = 'y')", "(k = 1 AND l = 'x') OR (k = 2 AND l = 'y')",
                "(k = 3 AND l = 'x') OR (k = 3 AND l = 'x')", "(k = 3 AND l = '3') OR (k = 3 AND l = 'y')"]),
    ("ranged", ["(k = 5 AND l = 'x') OR (k = 5 AND l = 'y')", "(k = 150 AND l = 'x') OR (k = 5 AND l = 'y')"]),
    ("ranged", ["k = (ARRAY[55, 155])[2]", "k = (ARRAY[155, 55])[2]", "k = (ARRAY[155, 55])[1]"]),
    ("ranged", ["k = ('{\"a\": 55}'::jsonb ->> 'a')::int", "k = ('{\"b\": 155}'::jsonb ->> 'b')::int"]),
    ("ranged", ["k IN (5, 150)", "k IN (5, 5)", "k IN (150, 250)"]),
    ("ranged", ["k >= 5 AND k < 5", "k >= 5 AND k < 150", "k >= 150 AND k < 5"]),
    ("ranged", ["k = -5", "k = -150", "k = - -150"]),
    ("ranged", ["k BETWEEN 5 AND 150", "k BETWEEN 150 AND 150", "k BETWEEN 150 AND 5"]),
    ("ranged", ["NOT (k = 5 OR k = 150)", "NOT (k = 5 OR k = 5)"]),
    ("ranged", ["k = 5 AND l = U&'\\0062'", "k = 150 AND l = U&'\\0063'"]),
]  # fmt: skip


class RepeatedStatementsTest(unittest.TestCase):
    definitions = read_definitions(DEFINITIONS, "definitions")
    around = Surroundings(ZoneInfo("UTC"), datetime(2026, 3, 1, tzinfo=UTC))

    def predictor(self, table):
        [root] = [each for each in self.definitions.roots() if each.table == table]
        return Predictor(self.definitions.tree(root), self.definitions.schema())

    def test_in_any_order_each_is_predicted_as_if_it_came_first(self):
        for table, conditions in ALIKE:
            statements = [f"SELECT * FROM {table} WHERE {condition}" for condition in conditions]
            # ORDER BY changes no partition, and makes the predictor read the statement by itself.
            alone = [self.predictor(table).touched(f"{sql} ORDER BY k", self.around) for sql in statements]
            self.assertTrue(all(touched is not None and touched.planned is not None for touched in alone))
            for turn in range(len(statements)):
                predictor = self.predictor(table)
                for place in (*range(turn, len(statements)), *range(turn)):
                    with self.subTest(statements[place], turn=turn):
                        self.assertEqual(alone[place], predictor.touched(statements[place], self.around))

    def test_another_familys_rules_are_used_where_they_are_given(self):
        def pruner(tree, answers=None):
            made.append(tree)
            return Pruner(tree, answers)

        made = []
        rules = replace(USUAL_RULES, pruner=pruner, read_statement=lambda *_, **__: None)
        known = self.predictor("ranged")
        other = Predictor(known.tree, known.schema, rules=rules)
        self.assertEqual([known.tree], made)
        self.assertIsNotNone(known.touched("SELECT * FROM ranged WHERE k = 5", self.around))
        self.assertIsNone(other.touched("SELECT * FROM ranged WHERE k = 5", self.around))

    def test_equal_literals_have_equal_marks_and_are_filled_in_again(self):
        for sql, repeats in [
            ("k = 1 AND l = '1' AND k = 1", (0, 1, 0)),
            ("k = 1 AND k = 1.0", (0, 1)),
            ("l = 'it''s' OR l = E'it\\'s' OR l = $$it's$$", (0, 0, 0)),
            ('"5" = 5 -- 5', (0,)),
        ]:
            with self.subTest(sql):
                literals, found = literals_and_repeats(sql)
                self.assertEqual(repeats, found)
                self.assertEqual(literals, literals_and_repeats(filled(marked(sql, found), literals))[0])

    def test_literals_that_the_parser_reads_are_not_marked(self):
        for sql, expected in [
            ("k = ANY (ARRAY[1, 2])", True),
            ("k = (a)[1]", False),
            ("j -> 'a' = '1'", False),
            ("j #>> '{a}' = '1'", False),
            ("l = u&'a'", False),
            ("l = 'u' AND k > 1", True),
        ]:
            with self.subTest(sql):
                self.assertIs(expected, can_be_marked(sql))
