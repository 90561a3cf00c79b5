"""Random statements on the layouts of the corpus: joins, sub-queries, views, contradictions, nested AND, OR and NOT.

    python -m benchmarks.random_statements [--seed N] [--count N] [--probes] [--verbose] [VERSION …]

Right is, as in benchmarks/corpus.py, that no leaf of the server's plan was left out of the prediction.
"""

import argparse
import random
import sys
from collections.abc import Iterator

import psycopg

from benchmarks.classes import BEFORE
from benchmarks.classes import LAYOUTS as MORE
from benchmarks.corpus import CONDITIONS, LAYOUTS, SECOND, Tally, asked_ahead, explained_plan, prepared
from benchmarks.layouts import Layout
from slabrow.servers.postgresql.connection import Connection, connect
from slabrow.servers.postgresql.private.server import find_binaries, start

# What is NULL or false by itself, or holds nothing to look for.
EMPTY = (
    "false", "NULL", "{k} = NULL", "{k} IN (NULL, NULL)", "{k} IN (NULL)", "{k} NOT IN (NULL, NULL)", "{k} IN ({a}, NULL)",
    "{k} = ANY ('{{NULL}}')", "{k} > ANY ('{{NULL}}')", "{k} = ANY ('{{}}')", "{k} <> ALL ('{{NULL}}')", "{k} <> ALL ('{{}}')", "1 = 0",
)  # fmt: skip


class Writer:
    """Writes statements on one layout from one source of chance."""

    def __init__(self, layout: Layout, chance: random.Random, probes: bool = False) -> None:
        self.layout, self.chance = layout, chance
        self.rare, self.empty = (0.3, 0.06) if probes else (0.04, 0.01)
        self.conditions = [*CONDITIONS, *layout.extra, *(SECOND if len(layout.key) > 1 else ())]

    def condition(self, alias: str, depth: int = 2) -> str:
        pick = self.chance.random()
        if depth and pick < 0.22:
            return f"({self.condition(alias, depth - 1)} AND {self.condition(alias, depth - 1)})"
        if depth and pick < 0.4:
            return f"({self.condition(alias, depth - 1)} OR {self.condition(alias, depth - 1)})"
        if depth and pick < 0.46:
            return f"NOT ({self.condition(alias, depth - 1)})"
        return self._plain(alias)

    def _plain(self, alias: str) -> str:
        a, b, c, z = self.layout.values
        first, second, third = self.chance.sample([a, b, c, z], 3)
        x, y = self.layout.second
        operator = self.chance.choice(("=", "=", "=", "<", "<=", ">", ">=", "<>"))
        pick = self.chance.random()
        if pick < self.empty:
            return self.chance.choice(EMPTY).format(k=f"{alias}.k", a=first)
        if pick < 0.5:
            return f"{alias}.k {operator} {first}"
        names = {
            "k": f"{alias}.k",
            "l": f"{alias}.l",
            "v": f"{alias}.v",
            "a": first,
            "b": second,
            "c": third,
            "z": z,
            "x": x,
            "y": y,
        }
        text = self.chance.choice(self.conditions)
        return (
            f"({text.replace('o.v = t.v', f'o.v = {alias}.v').format(**names)})"
            if " t." not in text
            else f"{alias}.v > 0"
        )

    def statement(self) -> str:
        chance, condition = self.chance, self.condition
        on = chance.choice(
            (
                "x.k = y.k",
                "x.k = y.k AND x.v = y.v",
                "x.v = y.v",
                f"x.k = y.k AND {condition('x', 1)}",
                f"x.k = y.k AND {condition('y', 1)}",
            )
        )
        join = chance.choice(("JOIN", "LEFT JOIN", "RIGHT JOIN", "FULL JOIN"))
        if join == "FULL JOIN":
            on = "x.k = y.k"
        one, other = chance.choice((("t", "o"), ("o", "t"), ("t", "t"), ("w", "o"), ("o", "w")))
        column = chance.choice(("k", "v"))
        forms = (
            lambda: f"SELECT * FROM t x WHERE {condition('x')}",
            lambda: f"SELECT * FROM t x WHERE {condition('x')} AND {condition('x')}",
            lambda: f"SELECT count(*) FROM {one} x {join} {other} y ON {on} WHERE {condition(chance.choice('xy'))}",
            lambda: f"SELECT count(*) FROM {one} x {join} {other} y ON {on} WHERE {condition('x', 1)} AND {condition('y', 1)}",
            lambda: f"SELECT count(*) FROM {one} x {chance.choice(('JOIN', 'LEFT JOIN', 'RIGHT JOIN'))} {other} y USING ({column}) WHERE {condition(chance.choice('xy'))}",
            lambda: f"SELECT count(*) FROM t x, o y WHERE {on} AND {condition(chance.choice('xy'))}",
            lambda: f"SELECT count(*) FROM t x WHERE {condition('x', 1)} AND {chance.choice(('', 'NOT '))}EXISTS (SELECT FROM {other} y WHERE y.k = x.k AND {condition('y', 1)})",
            lambda: f"SELECT count(*) FROM o x WHERE {condition('x', 1)} AND {chance.choice(('', 'NOT '))}EXISTS (SELECT FROM t y WHERE y.k = x.k AND {condition('y', 1)})",
            lambda: f"SELECT count(*) FROM t x WHERE x.k {chance.choice(('IN', 'NOT IN'))} (SELECT y.k FROM {other} y WHERE {condition('y', 1)}) AND {condition('x', 1)}",
            lambda: f"SELECT count(*) FROM (SELECT * FROM t x WHERE {condition('x', 1)}) s WHERE {condition('s', 1)}",
            lambda: f"SELECT count(*) FROM (SELECT x.k, count(*) AS v FROM t x WHERE {condition('x', 1)} GROUP BY x.k) s WHERE {condition('s', 1)}",
            lambda: f"WITH c AS (SELECT * FROM t x WHERE {condition('x', 1)}) SELECT count(*) FROM c WHERE {condition('c', 1)}",
            lambda: f"WITH c AS (SELECT * FROM t x WHERE {condition('x', 1)}) SELECT count(*) FROM c a JOIN c b ON a.k = b.k WHERE {condition('a', 1)}",
            lambda: f"SELECT * FROM (SELECT k, v FROM t UNION ALL SELECT k, v FROM o) s WHERE {condition('s', 1)}",
            lambda: f"SELECT x.k FROM t x WHERE {condition('x', 1)} UNION SELECT x.k FROM t x WHERE {condition('x', 1)}",
            lambda: f"SELECT count(*) FROM w x WHERE {condition('x')}",
            lambda: f"SELECT count(*) FROM wj x WHERE {condition('x')}",
            lambda: f"SELECT count(*) FROM t x LEFT JOIN (SELECT k, max(v) AS v FROM o GROUP BY k) y ON y.k = x.k WHERE {condition(chance.choice('xy'), 1)}",
            lambda: f"UPDATE t x SET v = 0 WHERE {condition('x')}",
            lambda: f"DELETE FROM t x USING o y WHERE {on} AND {condition(chance.choice('xy'), 1)}",
            lambda: f"SELECT count(*) FROM o x CROSS JOIN LATERAL (SELECT * FROM t y WHERE y.k = x.k AND {condition('y', 1)}) s WHERE {condition('x', 1)}",
            lambda: f"SELECT count(*) FROM t x JOIN o y ON x.k = y.k JOIN t s ON s.k = y.k WHERE {condition(chance.choice('xys'), 1)}",
        )  # fmt: skip
        rare = (
            lambda: f"SELECT count(*) FROM (t x JOIN o y ON {condition(chance.choice('xy'), 1)}) {join} t s ON s.k = x.k WHERE {condition(chance.choice('xs'), 1)}",
            lambda: f"SELECT count(*) FROM (t x JOIN o y ON {condition(chance.choice('xy'), 1)}) {join} t s ON s.k = x.k",
            lambda: f"SELECT count(*) FROM o s JOIN (t x {join} o y ON x.k = y.k) ON s.k = {chance.choice('xy')}.k AND {condition(chance.choice('xy'), 1)}",
            lambda: f"SELECT count(*) FROM o s LEFT JOIN (t x {join} o y ON x.k = y.k) ON s.k = {chance.choice('xy')}.k AND {condition(chance.choice('xy'), 1)}",
            lambda: f"SELECT count(*) FROM t s JOIN (t x JOIN o y ON {condition('x', 1)}) ON s.k = y.k {join} o z ON z.k = s.k",
            lambda: f"SELECT x.k FROM t x WHERE {condition('x', 1)} GROUP BY x.k HAVING {condition('x', 1)}",
            lambda: f"SELECT s.k FROM (SELECT x.k, max(x.v) v FROM t x GROUP BY x.k) s WHERE {condition('s', 1)} GROUP BY s.k HAVING {condition('s', 1)}",
            lambda: f"SELECT count(*) FROM (t x {join} o y ON x.k = y.k) {chance.choice(('LEFT JOIN', 'FULL JOIN', 'RIGHT JOIN'))} (o s JOIN t z ON {condition('z', 1)}) ON s.k = y.k",
        )  # fmt: skip
        return chance.choice(rare if chance.random() < self.rare else forms)()


def statements(layout: Layout, seed: int, count: int, probes: bool = False) -> Iterator[str]:
    """probes: more of what is rarely written, and was once predicted too narrowly."""
    writer = Writer(layout, random.Random(f"{seed} {layout.name}"), probes)
    for _ in range(count):
        yield writer.statement()


def judge(connection: Connection, layout: Layout, tally: Tally, options: argparse.Namespace) -> None:
    """Compares the prediction with the plan, for every statement that the server accepts."""
    predictor, around = prepared(connection, layout)
    every = {leaf.spelling for leaf in predictor.tree.leaves}
    planned: dict[str, set[str]] = {}
    for sql in statements(layout, options.seed, options.count, options.probes):
        try:
            planned[sql] = explained_plan(connection, sql) & every
        except psycopg.Error as error:
            if options.verbose:
                print(f"  refused: {sql}: {error.diag.message_primary}")
    predictor = asked_ahead(connection, predictor, list(planned), around)
    for sql, leaves in planned.items():
        found = predictor.touched(sql, around)
        predicted = every if found is None else set(found.started)
        tally.asked += 1
        tally.equal += predicted == leaves
        if leaves - predicted:
            tally.narrower += 1
            print(f"  NARROWER on {layout.name}: {sql}\n    {sorted(predicted)} planned {sorted(leaves)}")
        elif predicted != leaves:
            tally.wider += 1
            if options.verbose:
                print(f"  wider on {layout.name}: {sql}   {len(predicted)} for {len(leaves)}")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])  # type: ignore[union-attr]
    parser.add_argument("versions", nargs="*", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int, default=100, help="statements on each layout")
    parser.add_argument("--probes", action="store_true", help="more of what is rarely written")
    parser.add_argument("--verbose", action="store_true")
    options = parser.parse_args()
    faults, worst = 0, 1.0
    for binaries in {each.version: each for each in find_binaries()}.values():
        if options.versions and binaries.version not in options.versions:
            continue
        server = start(binaries, {})
        try:
            connection = connect(server.dsn)
            connection.execute("SET timezone = 'Europe/Berlin'; SET max_parallel_workers_per_gather = 0")
            for each in BEFORE:
                connection.execute(each.encode())
            tally = Tally()
            for layout in (*LAYOUTS, *MORE):
                judge(connection, layout, tally, options)
            print(
                f"PostgreSQL {binaries.version}: {tally.asked} random statements, seed {options.seed}; predicted equal "
                f"{tally.equal} ({tally.equal / tally.asked:.1%}), wider {tally.wider}, narrower {tally.narrower}"
            )
            faults += tally.narrower
            worst = min(worst, tally.equal / tally.asked)
            connection.close()
        finally:
            server.stop()
    return 0 if faults == 0 and (worst >= 0.95 or options.probes) else 1


if __name__ == "__main__":
    sys.exit(main())
