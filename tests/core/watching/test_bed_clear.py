"""Whether a bed is clear."""

from __future__ import annotations

import unittest

import numpy as np

from chronarch.core.watching.bed_clear import difference, is_clear


class ClearBed(unittest.TestCase):
    def setUp(self) -> None:
        rnd = np.random.default_rng(3)
        self.clear = rnd.uniform(60, 80, (72, 96))

    def test_the_same_bed_under_another_lamp_is_clear(self) -> None:
        self.assertTrue(is_clear(self.clear, self.clear + 25))

    def test_a_part_is_seen(self) -> None:
        part = self.clear.copy()
        part[30:36, 40:48] = 150
        self.assertFalse(is_clear(self.clear, part))
        self.assertAlmostEqual(difference(self.clear, part), 48 / (72 * 96), places=4)

    def test_two_sizes_cannot_be_compared(self) -> None:
        with self.assertRaises(ValueError):
            is_clear(self.clear, self.clear[1:])


if __name__ == "__main__":
    unittest.main()
