"""What has changed beyond chance: shown on simulated shops, with a real change and without."""

from __future__ import annotations

import unittest
from dataclasses import dataclass

import numpy as np

from chronarch.core.ledger.change_point_kinds import ChangePointKind, sentence
from chronarch.core.ledger.change_points import RATE, ChangePoint, Series, look, named

SHOPS, SERIES, REAL = 30, 30, 3
DAY_US = 86_400_000_000


@dataclass
class SimulatedShop:
    """Half of the series are shares, half are times with some odd values; the first few really change after 60 %."""

    series: list[Series]
    changes: list[ChangePoint | None]
    named: set[int]


def simulated(seed: int, real: int) -> SimulatedShop:
    rng = np.random.default_rng(seed)
    found: list[Series] = []
    for n in range(SERIES):
        count = int(rng.integers(60, 200))
        at = np.sort(rng.integers(0, 90 * DAY_US, count))
        later = (np.arange(count) >= int(count * 0.6)) & (n < real)
        if n % 2:
            base = rng.uniform(0.03, 0.12)
            values = (rng.random(count) < base + 0.25 * later).astype(np.float64)
            found.append(Series(at, values, np.full(count, base), share=True))
        else:
            values = rng.normal(0, 0.05, count) + 0.08 * later
            values[rng.random(count) < 0.02] += 2.0
            found.append(Series(at, values, np.zeros(count), share=False))
    changes = [look(one, n, RATE / SERIES / 2) for n, one in enumerate(found)]
    told = [n for n, change in enumerate(changes) if change is not None]
    passed = named([change.chance for change in changes if change is not None])
    return SimulatedShop(found, changes, {n for n, so in zip(told, passed, strict=True) if so})


class SimulatedShops(unittest.TestCase):
    def test_where_nothing_changed_few_shops_are_told_of_anything(self) -> None:
        alarmed = sum(bool(simulated(seed, 0).named) for seed in range(SHOPS))
        self.assertLessEqual(alarmed / SHOPS, 2 * RATE)

    def test_real_changes_are_named_with_when_and_how_much_and_little_else(self) -> None:
        false, hits, close, held = [], 0, 0, 0
        for seed in range(SHOPS):
            shop = simulated(seed, REAL)
            false.append(len(shop.named - set(range(REAL))) / max(1, len(shop.named)))
            for n in shop.named & set(range(REAL)):
                series, change = shop.series[n], shop.changes[n]
                assert change is not None
                hits += 1
                true_at = int(series.at[int(len(series.at) * 0.6)])
                close += abs(change.since - true_at) < 14 * DAY_US
                true_size = 0.25 if series.share else float(np.exp(0.08)) - 1
                held += change.low <= true_size <= change.high
        self.assertLessEqual(sum(false) / SHOPS, RATE)
        self.assertGreater(hits / (SHOPS * REAL), 0.8)
        self.assertGreater(close / hits, 0.8)
        self.assertGreater(held / hits, 0.8)


class OneSeries(unittest.TestCase):
    def times(self, values: np.ndarray) -> Series:
        return Series(np.arange(len(values)) * DAY_US, values, np.zeros(len(values)), share=False)

    def test_the_same_chance_comes_out_each_time(self) -> None:
        series = self.times(np.random.default_rng(5).normal(0, 1, 80))
        self.assertEqual(look(series, 3, 0.001), look(series, 3, 0.001))

    def test_too_few_or_all_the_same_tell_nothing(self) -> None:
        self.assertIsNone(look(self.times(np.arange(15.0)), 0, 0.01))
        self.assertIsNone(look(self.times(np.ones(50)), 0, 0.01))

    def test_single_odd_values_are_no_change(self) -> None:
        values = np.random.default_rng(1).normal(0, 0.05, 100)
        values[80:84] = 6.0
        change = look(self.times(values), 0, 0.001)
        assert change is not None
        self.assertGreater(change.chance, 0.05)

    def test_another_mix_of_files_is_no_change_where_their_shares_are_expected(self) -> None:
        rng = np.random.default_rng(2)
        expected = np.where(np.arange(200) < 100, 0.05, 0.5)
        values = (rng.random(200) < expected).astype(np.float64)
        at = np.arange(200) * DAY_US
        raw = look(Series(at, values, np.zeros(200), share=True), 0, 0.0001)
        beside = look(Series(at, values, expected, share=True), 0, 0.0001)
        assert raw is not None and beside is not None
        self.assertLess(raw.chance, 0.001)
        self.assertGreater(beside.chance, 0.05)

    def test_a_long_series_is_looked_at_as_a_whole(self) -> None:
        values = np.random.default_rng(3).normal(0, 0.1, 20_000)
        values[15_000:] += 0.02
        change = look(self.times(values), 0, 0.001)
        assert change is not None
        self.assertLess(change.chance, 0.001)
        self.assertAlmostEqual(change.since / DAY_US, 15_000, delta=600)


class Named(unittest.TestCase):
    def test_it_names_what_the_example_of_the_procedures_authors_names(self) -> None:
        """Benjamini and Hochberg 1995, section 4.1: 15 comparisons, of which the first four are named at 5 %."""
        chances = [
            0.0001, 0.0004, 0.0019, 0.0095, 0.0201, 0.0278, 0.0298, 0.0344, 0.0459, 0.3240, 0.4262, 0.5719, 0.6528,
            0.7590, 1.0,
        ]  # fmt: skip
        self.assertEqual(named(chances, 0.05), [True] * 4 + [False] * 11)
        self.assertEqual(named(chances[::-1], 0.05), [False] * 11 + [True] * 4)
        self.assertEqual(named([]), [])

    def test_what_it_says_is_a_sentence(self) -> None:
        self.assertEqual(sentence(ChangePointKind.SCRAP, "Bezel", 0.05, 0.3), "Bezel: scrap rose from 5.0 % to 30.0 %")
        self.assertEqual(sentence(ChangePointKind.TURNAROUND, "", 30.2, 19.0), "turnaround fell from 30 min to 19 min")
