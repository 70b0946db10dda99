"""Every benchmark can still be run: what it takes from the product is there."""

from __future__ import annotations

import importlib
import pkgutil
import unittest

import bench

OF_THE_FUZZER = "fuzz_hooks"
"""Loaded by a fuzzer that the tests do not install."""


class Benches(unittest.TestCase):
    def test_each_can_be_loaded(self) -> None:
        names = {m.name for m in pkgutil.iter_modules(bench.__path__)} - {OF_THE_FUZZER}
        self.assertIn("feeding", names)
        for name in names:
            with self.subTest(bench=name):
                importlib.import_module(f"bench.{name}")


if __name__ == "__main__":
    unittest.main()
