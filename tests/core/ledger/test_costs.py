"""What builds cost: prices by date and hour, and sums that are what their parts say."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.ledger.costs import (
    STEP,
    Cost,
    CostFacts,
    CostPart,
    MadeOf,
    PriceList,
    Rate,
    RateKind,
    added,
    machine_hour,
    price,
    shared,
    shown,
)

D = Decimal
BERLIN = ZoneInfo("Europe/Berlin")
YEAR = datetime(2026, 1, 1, tzinfo=UTC)
NIGHT = ((22, 6, D("0.20")),)
RATES = (
    Rate(RateKind.MATERIAL, "PLA", YEAR, D(20)),
    Rate(RateKind.MATERIAL, "PLA", YEAR + timedelta(days=180), D(24)),
    Rate(RateKind.ENERGY, "", YEAR, D("0.30"), NIGHT),
    Rate(RateKind.MACHINE, "", YEAR, D(1)),
    Rate(RateKind.MACHINE, "Kiln 250", YEAR, D(2)),
    Rate(RateKind.HANDS, "", YEAR, D("0.5")),
    Rate(RateKind.OVERHEAD, "", YEAR, D("0.1")),
)


def facts(begin: datetime, hours: float = 2, **other: object) -> CostFacts:
    given = {
        "model": "Lantern 220", "site": "Yard", "zone": BERLIN, "begin": begin, "end": begin + timedelta(hours=hours),
        "made_of": (MadeOf("PLA", D(50)),), "wh": D(100), "hands_min": D(4), **other,
    }  # fmt: skip
    return CostFacts(**given)  # type: ignore[arg-type]


money = st.decimals(0, 10_000, places=4, allow_nan=False)


class Builds(unittest.TestCase):
    def test_each_part_is_what_its_price_says(self) -> None:
        cost = PriceList(RATES).cost(facts(datetime(2026, 3, 2, 10, tzinfo=UTC)))
        self.assertEqual(
            cost.parts,
            {
                CostPart.MATERIAL: D("1.0000"), CostPart.ENERGY: D("0.0300"), CostPart.MACHINE: D("2.0000"),
                CostPart.HANDS: D("2.0000"), CostPart.OVERHEAD: D("0.5030"),
            },
        )  # fmt: skip
        self.assertEqual(cost.total, D("5.5330"))

    def test_a_price_holds_from_its_day_on_and_a_subjects_own_before_that_of_all(self) -> None:
        prices = PriceList(RATES)
        later = prices.cost(facts(YEAR + timedelta(days=200), model="KILN 250"))
        self.assertEqual(later.parts[CostPart.MATERIAL], D("1.2000"))
        self.assertEqual(later.parts[CostPart.MACHINE], D("4.0000"))
        own = facts(YEAR + timedelta(days=1), made_of=(MadeOf("PLA", D(50), price_kg=D(100)), MadeOf("PLA", D(1))))
        self.assertEqual(prices.cost(own).parts[CostPart.MATERIAL], D("5.0200"))

    def test_energy_has_the_price_of_each_hour_by_the_sites_clock(self) -> None:
        prices = PriceList(RATES)
        evening = prices.cost(facts(datetime(2026, 3, 2, 20, 30, tzinfo=UTC)))
        self.assertEqual(evening.parts[CostPart.ENERGY], D("0.0225"))  # half an hour at 0.30, then at 0.20
        night_of_25_hours = facts(datetime(2026, 10, 24, 20, tzinfo=UTC), hours=9, wh=D(900))
        self.assertEqual(prices.cost(night_of_25_hours).parts[CostPart.ENERGY], D("0.1800"))

    def test_what_has_no_price_is_said_and_left_out(self) -> None:
        cost = PriceList(RATES[2:3]).cost(facts(YEAR + timedelta(days=1)))
        self.assertEqual(cost.unpriced, {CostPart.MATERIAL, CostPart.MACHINE, CostPart.HANDS})
        self.assertEqual(set(cost.parts), {CostPart.ENERGY})
        early = PriceList(RATES).cost(facts(YEAR - timedelta(days=1)))
        self.assertEqual(early.unpriced, set(CostPart) - {CostPart.OVERHEAD})
        unmetered = PriceList(RATES).cost(facts(YEAR + timedelta(days=1), wh=None))
        self.assertEqual(unmetered.unpriced, {CostPart.ENERGY})
        free = facts(YEAR, wh=D(0), hands_min=D(0), made_of=())
        self.assertEqual(PriceList(RATES[3:4]).cost(free).unpriced, frozenset())

    def test_a_machines_hour_and_a_price_by_margin(self) -> None:
        self.assertEqual(machine_hour(D(3000), D(9000), D("0.25")), D("0.5833"))
        self.assertEqual(price(D("5.533"), D("0.4"), D("0.01")), D("9.22"))


class Sums(unittest.TestCase):
    @given(st.integers(0, 10**9), st.lists(st.integers(0, 10**6), min_size=1, max_size=40).filter(any))
    def test_what_is_shared_out_adds_up(self, steps: int, weights: list[int]) -> None:
        whole = steps * STEP
        shares = shared(whole, weights)
        self.assertEqual(sum(shares), whole)
        for share, weight in zip(shares, weights, strict=True):
            self.assertLess(abs(share - whole * weight / sum(weights)), STEP)
            self.assertEqual(share % STEP, 0)

    @given(st.lists(st.dictionaries(st.sampled_from(CostPart), money, max_size=5), max_size=20))
    def test_the_whole_is_the_sum_of_its_parts_and_of_its_builds(self, several: list[dict[CostPart, Decimal]]) -> None:
        costs = [Cost(parts) for parts in several]
        whole = added(costs)
        self.assertEqual(whole.total, sum((cost.total for cost in costs), D(0)))
        self.assertEqual(sum(whole.parts.values()), whole.total)
        together, each = shown(costs, D("0.01"))
        self.assertEqual(sum((cost.total for cost in each), D(0)), together.total)
        for part in CostPart:
            self.assertEqual(sum((cost.parts.get(part, D(0)) for cost in each), D(0)), together.parts[part])
        self.assertLessEqual(abs(together.total - whole.total), D("0.005"))
        self.assertTrue(all(amount % D("0.01") == 0 for cost in each for amount in cost.parts.values()))

    def test_there_must_be_something_to_share_by(self) -> None:
        with self.assertRaisesRegex(ValueError, "nothing to share by"):
            shared(D(1), [0, 0])
