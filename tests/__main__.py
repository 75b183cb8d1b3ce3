"""Run all tests on all cores: ``python -m tests``; some of them: ``python -m unittest tests.costs.test_costs``."""

import io
import os
import sys
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from tests.support import SHARED

ROOT = Path(__file__).parents[1]
MOST_PROCESSES = 4
"""Each compiles what it needs that no other has compiled yet."""
SLOWEST = 12
"""Classes of which it is told how long they took."""


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


@dataclass(frozen=True)
class Told:
    """What came of the tests of one class: how many ran, what was printed, why any was skipped, how long it took."""

    name: str
    ran: int
    failures: int
    errors: int
    text: str
    skipped: list[str]
    seconds: float


def run_class(name: str) -> Told:
    """Run the tests of one class."""
    told, begun = io.StringIO(), time.monotonic()
    result = unittest.TextTestRunner(told, verbosity=0).run(unittest.defaultTestLoader.loadTestsFromName(name))
    text = "" if result.wasSuccessful() else told.getvalue()
    failures = len(result.failures) + len(result.unexpectedSuccesses)
    reasons, seconds = [reason for _, reason in result.skipped], time.monotonic() - begun
    return Told(name, result.testsRun, failures, len(result.errors), text, reasons, seconds)


def main() -> int:
    """Run the tests class by class, each whole in one process, and tell of them as unittest does."""
    begun = time.monotonic()
    found = unittest.defaultTestLoader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    names = list(dict.fromkeys(class_of(test) for test in cases(found)))
    # What runs every example takes longest: begun last, it would keep one core waiting in the end.
    names.sort(key=lambda name: name.count("."))
    told: list[Told] = []
    with TemporaryDirectory() as shared, ProcessPoolExecutor(min(os.cpu_count() or 1, MOST_PROCESSES)) as pool:
        os.environ[SHARED] = shared
        for done in as_completed([pool.submit(run_class, name) for name in names]):
            one = done.result()
            told.append(one)
            print(one.text or "." * one.ran, end="", file=sys.stderr, flush=True)
    skipped = [reason for one in told for reason in one.skipped]
    for reason in sorted(set(skipped)):
        print(f"\n{skipped.count(reason)} skipped: {reason}", end="", file=sys.stderr)
    slowest = sorted(told, key=lambda one: -one.seconds)[:SLOWEST]
    print("\nslowest: " + ", ".join(f"{one.name} {one.seconds:.0f} s" for one in slowest), end="", file=sys.stderr)
    counts = (("failures", sum(one.failures for one in told)), ("errors", sum(one.errors for one in told)))
    wrong = [f"{word}={count}" for word, count in counts if count]
    ran = sum(one.ran for one in told)
    print(f"\n\nRan {ran} tests in {time.monotonic() - begun:.3f}s\n", file=sys.stderr)
    print(f"FAILED ({', '.join(wrong)})" if wrong else "OK", file=sys.stderr)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
