"""The other rows of the faults table, in a process of their own."""

from __future__ import annotations

import unittest

from tests.faults.rows import ROWS, Shop
from tests.faults.test_faults import add_tests  # not its tests


class MoreFaults(Shop):
    """One test a row, made from the table."""


add_tests(MoreFaults, ROWS[1::2])
del Shop  # it has no tests of its own

if __name__ == "__main__":
    unittest.main()
