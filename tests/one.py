"""Runs one file's tests (or one class's, or one test) in this process."""

from __future__ import annotations

import logging
import sys
import time
import unittest

from tests.support.world import close_all

SLOW_S = 5.0


class _Result(unittest.TextTestResult):
    """Counts what passed, and says what was slow."""

    def __init__(self, *args: object, **kwargs: object) -> None:
        super().__init__(*args, **kwargs)  # type: ignore[arg-type]
        self.passed = 0
        self._began = 0.0

    def startTest(self, test: unittest.TestCase) -> None:
        self._began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        took = time.monotonic() - self._began
        if took > SLOW_S:
            self.stream.writeln(f"      ({took:.1f} s)")
        super().stopTest(test)

    def addSuccess(self, test: unittest.TestCase) -> None:
        self.passed += 1
        super().addSuccess(test)


def run(names: list[str]) -> int:
    """The tests named; prints how each went and closes with the line `N passed, N failed`. The exit code."""
    logging.lastResort = logging.NullHandler()  # what is logged is not printed, and can be listened to
    suite = unittest.defaultTestLoader.loadTestsFromNames(names)
    try:
        result = unittest.TextTestRunner(resultclass=_Result, verbosity=2, stream=sys.stdout).run(suite)
    finally:
        close_all()
    assert isinstance(result, _Result)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
    print(f"{result.passed} passed, {failed} failed{skipped}")
    return 1 if failed else 0


if __name__ == "__main__":
    raise SystemExit(run(sys.argv[1:]))
