"""A picture that comes late shows its build as it was, not as it is."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from chronarch.core.watching.build_places import REMEMBERED, BuildPlaces
from chronarch.core.watching.frame_keeping import KeptPlace

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)


def at(second: float) -> datetime:
    return NINE + timedelta(seconds=second)


class Places(unittest.TestCase):
    def setUp(self) -> None:
        self.places = BuildPlaces()

    def tell(self, second: float, build: int | None, layer: int, command: int) -> None:
        self.places.tell(KeptPlace(build, layer, command), at(second))

    def test_between_two_places_it_is_in_between_and_after_the_last_it_is_there(self) -> None:
        self.assertEqual(self.places.when(at(0)), KeptPlace())
        self.tell(10, 7, 2, 100)
        self.tell(20, 7, 3, 300)
        self.assertEqual(self.places.when(at(12.5)), KeptPlace(7, 2, 150))
        self.assertEqual(self.places.when(at(20)), KeptPlace(7, 3, 300))
        self.assertEqual(self.places.when(at(99)), KeptPlace(7, 3, 300))
        self.assertEqual(self.places.when(at(5)), KeptPlace(7, 2, 100), "before all that is known")

    def test_nothing_is_in_between_two_builds_or_when_a_build_turns_out_to_have_come_less_far(self) -> None:
        self.tell(10, 7, 2, 100)
        self.tell(20, 8, 0, 0)
        self.tell(30, 8, 5, 500)
        self.tell(40, 8, 4, 400)
        self.assertEqual(self.places.when(at(15)), KeptPlace(7, 2, 100))
        self.assertEqual(self.places.when(at(35)), KeptPlace(8, 5, 500))

    def test_a_place_without_a_time_holds_and_few_are_remembered(self) -> None:
        self.tell(10, 7, 2, 100)
        self.places.tell(KeptPlace(7, 9, 900), None)
        self.assertEqual(self.places.when(at(0)), KeptPlace(7, 9, 900))
        for second in range(5 * REMEMBERED):
            self.tell(100 + second, 7, 10, 1000 + second)
        self.assertEqual(self.places.when(at(0)).command, 1000 + 4 * REMEMBERED)


if __name__ == "__main__":
    unittest.main()
