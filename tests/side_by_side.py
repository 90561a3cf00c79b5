"""Runs all tests (or those named) and closes with one line: N passed, N failed, N skipped.

Test classes run side by side, in as many processes as there are processors; each process has servers of its own.
`--quick` leaves out everything that needs a server, `--families` the tests on servers of other families than those named: they
count as skipped. `-v` names each test with the time it took. `--processes N` sets
the number of processes.
"""

import argparse
import multiprocessing
import os
import threading
import time
import unittest
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass


@dataclass(frozen=True)
class Ended:
    """What came of the tests of one class. times: seconds of each test by its name. failures: a text for each."""

    name: str
    times: dict[str, float]
    failures: list[tuple[str, str]]
    skipped: int


class _Result(unittest.TestResult):
    def __init__(self) -> None:
        super().__init__()
        self.times: dict[str, float] = {}

    def startTest(self, test: unittest.TestCase) -> None:
        super().startTest(test)
        self._began = time.monotonic()

    def stopTest(self, test: unittest.TestCase) -> None:
        self.times[test.id()] = time.monotonic() - self._began
        super().stopTest(test)


def run_class(names: list[str]) -> Ended:
    """Runs the tests of one class, here."""
    result = _Result()
    unittest.defaultTestLoader.loadTestsFromNames(names).run(result)
    failures = [(getattr(test, "test_case", test).id(), text) for test, text in (*result.failures, *result.errors)]
    failures += [(test.id(), "was expected to fail and passed") for test in result.unexpectedSuccesses]
    return Ended(names[0].rpartition(".")[0], result.times, failures, len(result.skipped))


def end_with_parent() -> None:
    """Ends this process soon after the one that started it: a killed run leaves nobody behind who starts servers."""
    parent = os.getppid()

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(1)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()


def classes(names: list[str], *, quick: bool, families: list[str]) -> tuple[list[list[str]], int]:
    """Also how many tests are left out because their server's family is not among `families`. The names of the tests, a list for each class, the slowest classes first: those with `is_long`, then by number and kind."""
    loader = unittest.defaultTestLoader
    suite = loader.loadTestsFromNames(names) if names else loader.discover("tests", top_level_dir=".")
    found: dict[type, list[str]] = {}
    left_out = 0
    for test in _tests(suite):
        if families and getattr(test, "family", families[0]) not in families:
            left_out += 1
        elif not quick or not needs_server(type(test)):
            found.setdefault(type(test), []).append(test.id())

    def weight(kind: type) -> tuple[bool, int]:
        return getattr(kind, "is_long", False), len(found[kind]) * (10 if needs_server(kind) else 1)

    return [found[kind] for kind in sorted(found, key=weight, reverse=True)], left_out


def needs_server(kind: type) -> bool:
    from tests.support import ServerTest

    return issubclass(kind, ServerTest)


def _tests(suite: unittest.TestSuite) -> "list[unittest.TestCase]":
    return [test for each in suite for test in (_tests(each) if isinstance(each, unittest.TestSuite) else [each])]


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests", description=__doc__)
    parser.add_argument("names", nargs="*", help="modules, classes or tests, as tests.test_weigh")
    parser.add_argument("--quick", action="store_true", help="only tests that need no server")
    parser.add_argument(
        "--families", nargs="+", default=[], choices=("postgresql", "mariadb"), help="only tests on these servers"
    )
    parser.add_argument("--processes", type=int, default=os.cpu_count() or 1)
    parser.add_argument("-v", "--verbose", action="store_true")
    options = parser.parse_args()
    work, skipped = classes(options.names, quick=options.quick, families=options.families)
    if skipped:
        print(f"Only {' and '.join(options.families)}: {skipped} tests on other servers are left out.", flush=True)
    passed = failed = 0
    # Fresh processes rather than forks: a fork would share the servers and connections of this one.
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(min(options.processes, len(work)) or 1, context, end_with_parent) as pool:
        for done in as_completed([pool.submit(run_class, names) for names in work]):
            ended = done.result()
            # A test with several failing cases is one failed test.
            failing = {name for name, _ in ended.failures}
            failed += len(failing)
            skipped += ended.skipped
            passed += max(0, len(ended.times) - len(failing & ended.times.keys()) - ended.skipped)
            took = sum(ended.times.values())
            print(f"{took:6.1f} s  {len(ended.times):3} tests  {ended.name}", flush=True)
            if options.verbose:
                for name, seconds in ended.times.items():
                    print(f"{seconds:9.2f} s  {name.rpartition('.')[2]}", flush=True)
            for name, text in ended.failures:
                print(f"{'=' * 70}\nFAILED {name}\n{text}", flush=True)
    print(f"{passed} passed, {failed} failed, {skipped} skipped")
    return 0 if failed == 0 and passed > 0 else 1
