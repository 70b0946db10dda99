"""Runs all tests, or those named: `python -m tests [tests.core ...]`. Closes with the line `N passed, N failed`."""

from __future__ import annotations

import logging
import sys
import time
import unittest
from pathlib import Path

from tests.support.world import close_all


class _Result(unittest.TextTestResult):
    """Counts what passed, and remembers what was slow."""

    def __init__(self, *args: object, **kwargs: object) -> None:
        super().__init__(*args, **kwargs)  # type: ignore[arg-type]
        self.passed = 0
        self.slow: list[tuple[float, str]] = []
        self._began = 0.0

    def startTest(self, test: unittest.TestCase) -> None:
        self._began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        self.slow.append((time.monotonic() - self._began, test.id()))
        super().stopTest(test)

    def addSuccess(self, test: unittest.TestCase) -> None:
        self.passed += 1
        super().addSuccess(test)


def main() -> int:
    logging.disable(logging.CRITICAL)
    root = Path(__file__).parent
    loader = unittest.TestLoader()
    names = sys.argv[1:]
    began = time.monotonic()
    suite = loader.loadTestsFromNames(names) if names else loader.discover(str(root), top_level_dir=str(root.parent))
    runner = unittest.TextTestRunner(resultclass=_Result, verbosity=2, stream=sys.stdout)
    try:
        result = runner.run(suite)
    finally:
        close_all()
    assert isinstance(result, _Result)
    for seconds, name in sorted(result.slow, reverse=True)[:5]:
        print(f"{seconds:6.1f} s  {name}")
    print(f"{time.monotonic() - began:6.1f} s  in all")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
    if result.passed + failed == 0:
        print("No test was found.")
        return 1
    print(f"{result.passed} passed, {failed} failed{skipped}")
    return 1 if failed else 0


if __name__ == "__main__":
    raise SystemExit(main())
