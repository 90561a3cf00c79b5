"""Runs all tests (or those named) and closes with one line: N passed, N failed, N skipped."""

import sys
import unittest


def main() -> int:
    loader = unittest.TestLoader()
    names = [name for name in sys.argv[1:] if not name.startswith("-")]
    suite = loader.loadTestsFromNames(names) if names else loader.discover("tests", top_level_dir=".")
    result = unittest.TextTestRunner(verbosity=2 if "-v" in sys.argv else 1).run(suite)
    # A test with several failing cases is one failed test.
    failing = {getattr(test, "test_case", test).id() for test, _ in (*result.failures, *result.errors)}
    failed = len(failing) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    passed = max(0, result.testsRun - failed - skipped)
    print(f"{passed} passed, {failed} failed, {skipped} skipped")
    return 0 if failed == 0 and passed > 0 else 1


if __name__ == "__main__":
    sys.exit(main())
