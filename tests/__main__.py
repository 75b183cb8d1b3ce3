"""Run all tests on all cores: ``python -m tests``; some of them: ``python -m unittest tests.costs.test_costs``."""

import io
import os
import sys
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path

ROOT = Path(__file__).parents[1]
MOST_PROCESSES = 4
"""Each compiles what it needs that no other has compiled yet."""


def cases(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    """Yield every test of a suite."""
    for test in suite:
        if isinstance(test, unittest.TestSuite):
            yield from cases(test)
        else:
            yield test


def class_of(test: unittest.TestCase) -> str:
    """Return the name of a test's class; of what could not be imported, the name that says so."""
    kind = type(test)
    return test.id() if kind.__module__ == "unittest.loader" else f"{kind.__module__}.{kind.__qualname__}"


def run_class(name: str) -> tuple[int, int, int, str, list[str]]:
    """Run the tests of one class; return how many ran, failures, errors, what was printed, and why any was skipped."""
    told = io.StringIO()
    result = unittest.TextTestRunner(told, verbosity=0).run(unittest.defaultTestLoader.loadTestsFromName(name))
    text = "" if result.wasSuccessful() else told.getvalue()
    failures = len(result.failures) + len(result.unexpectedSuccesses)
    return result.testsRun, failures, len(result.errors), text, [reason for _, reason in result.skipped]


def main() -> int:
    """Run the tests class by class, each whole in one process, and tell of them as unittest does."""
    begun = time.monotonic()
    found = unittest.defaultTestLoader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    names = list(dict.fromkeys(class_of(test) for test in cases(found)))
    # What runs every example takes longest: begun last, it would keep one core waiting in the end.
    names.sort(key=lambda name: name.count("."))
    ran = failures = errors = 0
    skipped: list[str] = []
    with ProcessPoolExecutor(min(os.cpu_count() or 1, MOST_PROCESSES)) as pool:
        for done in as_completed([pool.submit(run_class, name) for name in names]):
            count, failed, broken, text, reasons = done.result()
            skipped += reasons
            ran, failures, errors = ran + count, failures + failed, errors + broken
            print(text or "." * count, end="", file=sys.stderr, flush=True)
    for reason in sorted(set(skipped)):
        print(f"\n{skipped.count(reason)} skipped: {reason}", end="", file=sys.stderr)
    wrong = [f"{word}={count}" for word, count in (("failures", failures), ("errors", errors)) if count]
    print(f"\n\nRan {ran} tests in {time.monotonic() - begun:.3f}s\n", file=sys.stderr)
    print(f"FAILED ({', '.join(wrong)})" if wrong else "OK", file=sys.stderr)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
