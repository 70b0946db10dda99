"""Every other row of the faults table, with few points; `make faults` tries them all with many."""

from __future__ import annotations

import random
import unittest
from collections.abc import Callable, Sequence
from typing import Any

from tests.faults.rows import ROWS, SEED, Row, Shop


class Faults(Shop):
    """One test a row, made from the table."""


def add_tests(case: type[unittest.TestCase], rows: Sequence[Row]) -> None:
    """A test for each of these rows that has a quick one."""
    for row in rows:
        if row.quick:
            setattr(case, f"test_{row.key.replace('-', '_')}", _test(row))


def _test(row: Row) -> Callable[[Any], None]:
    def test(self: Any) -> None:
        row.run(self, self.world, random.Random(f"{SEED} {row.key}"), row.quick)

    test.__doc__ = f"{row.broken} {row.when}: {row.must}"
    return test


add_tests(Faults, ROWS[::2])
del Shop  # it has no tests of its own

if __name__ == "__main__":
    unittest.main()
