"""Copies of a job, counted."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.orders.quantities import JobQuantities, next_copy
from chronarch.core.orders.states import JobState


class CopiesCounted(unittest.TestCase):
    @given(st.integers(1, 30), st.sets(st.integers(1, 30)))
    def test_the_next_copy_is_the_lowest_free_one(self, wanted: int, taken: set[int]) -> None:
        number = next_copy(wanted, taken)
        if number is None:
            self.assertTrue(set(range(1, wanted + 1)) <= taken)
        else:
            self.assertNotIn(number, taken)
            self.assertTrue(all(n in taken for n in range(1, number)))

    def test_a_jobs_state_follows_from_its_copies(self) -> None:
        table = [
            (JobQuantities(3, 0, 0), False, False, JobState.WAITING),
            (JobQuantities(3, 0, 0), True, False, JobState.HELD),
            (JobQuantities(3, 1, 1), True, False, JobState.RUNNING),
            (JobQuantities(3, 3, 0), False, False, JobState.FINISHED),
            (JobQuantities(3, 1, 0), False, True, JobState.WITHDRAWN),
        ]
        for copies, held, withdrawn, expected in table:
            self.assertIs(copies.state(held=held, withdrawn=withdrawn), expected)


class Pieces(unittest.TestCase):
    def test_pieces_builds_and_what_is_over(self) -> None:
        self.assertEqual(JobQuantities(10, 3, 2).builds(4), 2)
        self.assertEqual(JobQuantities(10, 12, 0).over, 2)
        self.assertEqual(JobQuantities(10, 12, 0).waiting, 0)


if __name__ == "__main__":
    unittest.main()
