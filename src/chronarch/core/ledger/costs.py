"""What builds cost: prices that hold from a day on, and the cost of a build worked out from them, in decimals."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta, tzinfo
from decimal import ROUND_DOWN, ROUND_HALF_EVEN, Decimal
from enum import StrEnum

STEP = Decimal("0.0001")
"""To this are costs rounded, half to even, once: each part of each build's cost. All sums are sums of these."""
ZERO = Decimal(0)


class CostPart(StrEnum):
    MATERIAL = "material"
    ENERGY = "energy"
    MACHINE = "machine"
    HANDS = "hands"
    OVERHEAD = "overhead"


class RateKind(StrEnum):
    """What has a price. Its subject: a material, a site, a model, nothing, nothing."""

    MATERIAL = "material"
    """Of a kilogram, where the spool has no price of its own."""
    ENERGY = "energy"
    """Of a kWh, by hour of the day where that differs."""
    MACHINE = "machine"
    """Of an hour that a build takes."""
    HANDS = "hands"
    """Of a minute."""
    OVERHEAD = "overhead"
    """The share that is added to all the rest."""


@dataclass(frozen=True)
class Rate:
    """A price that holds from `since` on, until a later one of the same kind and subject. With no subject it holds for
    all that have none of their own. `hours` has other prices for some hours of the day, from..to."""

    kind: RateKind
    subject: str
    since: datetime
    price: Decimal
    hours: tuple[tuple[int, int, Decimal], ...] = ()

    def at_hour(self, hour: int) -> Decimal:
        for begin, end, price in self.hours:
            if (begin <= hour < end) if begin < end else (hour >= begin or hour < end):
                return price
        return self.price


@dataclass(frozen=True)
class MadeOf:
    """What was laid from one tool: `price_kg` is the spool's own price of a kilogram, if it has one."""

    material: str
    grams: Decimal
    price_kg: Decimal | None = None


@dataclass(frozen=True)
class CostFacts:
    """What a build's cost is worked out from. `zone` is that of its site's clock; `wh` is None where nothing says what
    was drawn."""

    model: str
    site: str
    zone: tzinfo
    begin: datetime
    end: datetime
    made_of: tuple[MadeOf, ...]
    wh: Decimal | None
    hands_min: Decimal


@dataclass(frozen=True)
class Cost:
    """The parts of a cost, and those that there is no price for, or no reading: these are left out of it."""

    parts: Mapping[CostPart, Decimal]
    unpriced: frozenset[CostPart] = frozenset()

    @property
    def total(self) -> Decimal:
        return sum(self.parts.values(), ZERO)


def added(costs: Iterable[Cost]) -> Cost:
    """Costs of several things together."""
    parts, unpriced = dict.fromkeys(CostPart, ZERO), frozenset[CostPart]()
    for cost in costs:
        for part, amount in cost.parts.items():
            parts[part] += amount
        unpriced |= cost.unpriced
    return Cost(parts, unpriced)


def times(cost: Cost, many: int) -> Cost:
    return Cost({part: amount * many for part, amount in cost.parts.items()}, cost.unpriced)


@dataclass
class PriceList:
    """All prices. A later one of the same kind, subject and beginning takes the place of an earlier one."""

    rates: Sequence[Rate]
    _kept: dict[tuple[RateKind, str], tuple[list[datetime], list[Rate]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for rate in sorted(self.rates, key=lambda rate: rate.since):
            since, kept = self._kept.setdefault((rate.kind, rate.subject.casefold()), ([], []))
            since.append(rate.since)
            kept.append(rate)

    def of(self, kind: RateKind, subject: str, at: datetime) -> Rate | None:
        """What holds at a time, of the subject or else of all; None where there is no price."""
        for one in dict.fromkeys((subject.casefold(), "")):
            since, kept = self._kept.get((kind, one), ([], []))
            place = bisect_right(since, at)
            if place:
                return kept[place - 1]
        return None

    def cost(self, facts: CostFacts) -> Cost:
        """What a build cost. A build has the prices that held when it began, energy those of each hour."""
        hours = _hours(facts.end - facts.begin)
        material = self._material(facts)
        energy = None if facts.wh is None else self._energy(facts, facts.wh) if facts.wh else ZERO
        machine = self._times(RateKind.MACHINE, facts.model, facts.begin, hours)
        hands = self._times(RateKind.HANDS, "", facts.begin, facts.hands_min)
        found = {
            CostPart.MATERIAL: material, CostPart.ENERGY: energy, CostPart.MACHINE: machine, CostPart.HANDS: hands,
        }  # fmt: skip
        parts = {part: rounded(amount) for part, amount in found.items() if amount is not None}
        unpriced = frozenset(part for part, amount in found.items() if amount is None)
        overhead = self.of(RateKind.OVERHEAD, "", facts.begin)
        if overhead is not None:
            parts[CostPart.OVERHEAD] = rounded(sum(parts.values(), ZERO) * overhead.price)
        return Cost(parts, unpriced)

    def _material(self, facts: CostFacts) -> Decimal | None:
        found = ZERO
        for one in facts.made_of:
            price = one.price_kg
            if price is None:
                rate = self.of(RateKind.MATERIAL, one.material, facts.begin)
                if rate is None:
                    return None
                price = rate.price
            found += one.grams / 1000 * price
        return found

    def _times(self, kind: RateKind, subject: str, at: datetime, amount: Decimal) -> Decimal | None:
        if not amount:
            return ZERO
        rate = self.of(kind, subject, at)
        return None if rate is None else amount * rate.price

    def _energy(self, facts: CostFacts, wh: Decimal) -> Decimal | None:
        """What was drawn is spread over the build's time evenly: energy is counted by build, not by hour."""
        whole = facts.end - facts.begin
        if whole <= timedelta(0):
            rate = self.of(RateKind.ENERGY, facts.site, facts.begin)
            return None if rate is None else wh / 1000 * rate.at_hour(facts.begin.astimezone(facts.zone).hour)
        weighed = ZERO
        for begin, end in _by_hour(facts.begin, facts.end, facts.zone):
            rate = self.of(RateKind.ENERGY, facts.site, begin)
            if rate is None:
                return None
            weighed += _hours(end - begin) * rate.at_hour(begin.astimezone(facts.zone).hour)
        return wh / 1000 * weighed / _hours(whole)


def machine_hour(purchase: Decimal, life_h: Decimal, upkeep_h: Decimal) -> Decimal:
    """The price of a machine's hour: its purchase over the hours of its life, and upkeep an hour."""
    return rounded(purchase / life_h + upkeep_h)


def rounded(amount: Decimal, step: Decimal = STEP) -> Decimal:
    return (amount / step).quantize(Decimal(1), ROUND_HALF_EVEN) * step


def shared(whole: Decimal, weights: Sequence[Decimal | int], step: Decimal = STEP) -> list[Decimal]:
    """A whole number of steps shared out by weights, so that the shares are whole steps too and add up to it: what is
    left over goes to those that lost most by rounding down, the first of equals first (largest remainders)."""
    total = sum((Decimal(weight) for weight in weights), ZERO)
    if not weights or total <= 0:
        raise ValueError("there is nothing to share by: weights must have a sum above 0")
    exact = [whole * Decimal(weight) / total for weight in weights]
    floors = [(amount / step).quantize(Decimal(1), ROUND_DOWN) * step for amount in exact]
    left = int(((whole - sum(floors, ZERO)) / step).quantize(Decimal(1), ROUND_HALF_EVEN))
    sign = 1 if left >= 0 else -1
    most_lost = sorted(range(len(exact)), key=lambda n: -abs(exact[n] - floors[n]))
    for n in most_lost[: abs(left)]:
        floors[n] += sign * step
    return floors


def shown(costs: Sequence[Cost], step: Decimal) -> tuple[Cost, list[Cost]]:
    """Costs in whole steps of what people pay in, and all of them together: the sum of all is rounded, and shared out
    from there, so that whatever is added up, across or down, comes to what stands below."""
    exact = sum((cost.total for cost in costs), ZERO)
    whole = rounded(exact, step)
    totals = shared(whole, [cost.total for cost in costs], step) if exact else [ZERO for _ in costs]
    found = []
    for cost, total in zip(costs, totals, strict=True):
        parts = [(part, amount) for part, amount in cost.parts.items() if amount]
        shares = shared(total, [amount for _, amount in parts], step) if parts else []
        found.append(Cost({part: share for (part, _), share in zip(parts, shares, strict=True)}, cost.unpriced))
    return added(found), found


def price(cost: Decimal, margin: Decimal, step: Decimal) -> Decimal:
    """The price at which `margin` (a share, below 1) of it is left after the cost."""
    return rounded(cost / (1 - margin), step)


def _hours(span: timedelta) -> Decimal:
    return Decimal(span // timedelta(microseconds=1)) / 3_600_000_000


def _by_hour(begin: datetime, end: datetime, zone: tzinfo) -> Iterable[tuple[datetime, datetime]]:
    """A span cut at the full hours of a clock."""
    while begin < end:
        there = begin.astimezone(zone)
        to_go = timedelta(hours=1) - timedelta(
            minutes=there.minute, seconds=there.second, microseconds=there.microsecond
        )
        yield begin, min(end, begin + to_go)
        begin += to_go
