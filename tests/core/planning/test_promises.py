"""A promise does not flicker, and says why it changes."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.planning.forecast import Completion, promise
from chronarch.core.planning.promises import LASTS, SteadyPromise, steady
from chronarch.core.time_range import TimeRange

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
FACTS = {"due": NINE, "wanted": 12, "scrap": 0}


def told(chance: float, minute: float, before: SteadyPromise | None, **facts: object) -> SteadyPromise:
    word = promise(_at(chance), NINE)
    return steady(before, word, chance, {**FACTS, **facts}, NINE + timedelta(minutes=minute))


def _at(chance: float) -> Completion:
    return Completion(TimeRange(NINE, NINE, NINE), chance)


class Steady(unittest.TestCase):
    def test_a_chance_that_swings_about_a_band_changes_no_word(self) -> None:
        at = told(0.92, 0, None)
        for minute, chance in enumerate((0.88, 0.91, 0.87, 0.89, 0.93, 0.86) * 4, 1):
            at = told(chance, 5 * minute, at)
            self.assertEqual((at.word, at.why, at.since), ("in time", "", NINE))

    def test_a_chance_that_stays_beyond_changes_it_and_says_so(self) -> None:
        at = told(0.92, 0, None)
        for minute in (10, 20, 39):
            at = told(0.85, minute, at)
            self.assertEqual(at.word, "in time")
        at = told(0.84, 40, at)
        self.assertEqual((at.word, at.why), ("at risk", "for 30 min now 84 of 100 futures are in time"))
        self.assertEqual(at.since, NINE + timedelta(minutes=40))

    def test_what_happens_changes_it_at_once_and_is_named(self) -> None:
        before = told(0.92, 0, None)
        self.assertEqual(told(0.7, 1, before, scrap=1).why, "a build of it was scrap")
        both = told(0.1, 1, before, wanted=40, machines=("Arbor",))
        self.assertEqual((both.word, both.why),
                         ("late", "how much of it is wanted was changed; other machines work than before"))  # fmt: skip
        self.assertEqual(told(0.95, 1, before, wanted=10).word, "in time")

    def test_a_fall_through_a_whole_band_is_told_at_once(self) -> None:
        at = told(0.2, 1, told(0.92, 0, None))
        self.assertEqual((at.word, at.why), ("late", "20 of 100 futures are in time"))

    @given(st.lists(st.floats(0, 1), min_size=2, max_size=80))
    def test_between_neighbouring_bands_a_word_stays_at_least_so_long(self, chances: list[float]) -> None:
        at, changes = told(chances[0], 0, None), []
        for minute, chance in enumerate(chances[1:], 1):
            now = told(chance, minute, at)
            if now.word != at.word and {now.word, at.word} != {"late", "in time"}:
                changes.append(NINE + timedelta(minutes=minute) - at.since)
            at = now
        self.assertTrue(all(length >= LASTS for length in changes))


if __name__ == "__main__":
    unittest.main()
