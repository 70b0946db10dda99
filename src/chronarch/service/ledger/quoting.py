"""What a part should cost: from each of its files, on each model that can make it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.costs import ZERO, Cost, CostFacts, MadeOf, PriceList, rounded
from chronarch.core.ledger.shares import wilson
from chronarch.core.orders.quantities import JobQuantities
from chronarch.core.planning.eligibility import RULES_FOR_KIND, first_blocker
from chronarch.records import tables as t
from chronarch.records.ledger.costs import exact, load_prices
from chronarch.records.ledger.quoting import judged_of, spool_prices, watts_of
from chronarch.service.library.content_facts import ContentFactsCache
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.orders.waiting_jobs import Variant, WaitingJob, waiting_of
from chronarch.service.planning.settings import PlanningSettings, load_settings

LEARNT_FROM = timedelta(days=90)
FEWEST_JUDGED = 10
"""From so many builds on a file's own scrap share is expected of it, on the model or on all."""
MOST_SCRAP = Decimal("0.95")


@dataclass(frozen=True)
class WayToMake:
    """One way to make something: a build from a file on a model, what the build costs, and what is to be expected."""

    variant: Variant
    model: str
    takes_s: float
    build: Cost
    scrap: int
    judged: int
    expected_scrap: Decimal

    @property
    def each(self) -> Cost:
        """What one good piece costs, with its share of builds that become scrap."""
        good = self.variant.pieces * (1 - self.expected_scrap)
        return Cost({part: rounded(amount / good) for part, amount in self.build.parts.items()}, self.build.unpriced)

    @property
    def scrap_each(self) -> Decimal:
        """How much of that is for scrap."""
        return self.each.total - rounded(self.build.total / self.variant.pieces)

    @property
    def scrap_range(self) -> tuple[float, float]:
        return wilson(self.scrap, self.judged)


@dataclass(frozen=True)
class Quoting:
    """All that quotes are worked out from, as it is now."""

    machines: Sequence[FleetMachine]
    fleet: Fleet
    settings: PlanningSettings
    prices: PriceList
    spools: Mapping[str, Decimal]
    watts: Mapping[str, Decimal]
    judged: Mapping[tuple[int, str], tuple[int, int]]
    at: datetime

    def ways(self, job: WaitingJob) -> list[WayToMake]:
        """The ways to make what a job asks for, one a file and model, the cheapest first."""
        found: dict[tuple[int, str], WayToMake] = {}
        for known in self.machines:
            standing = self.fleet.standing(known)
            model = known.model.name
            for variant, need in zip(job.needs.variants, job.needs.options(standing), strict=True):
                fits = model in variant.facts and not first_blocker([need], standing, RULES_FOR_KIND)
                if fits and (variant.file_id, model) not in found:
                    material = need.requirement.material or variant.facts[model].material
                    found[variant.file_id, model] = self._way(variant, known, material, list(need.grams.values()))
        return sorted(found.values(), key=lambda way: (way.each.total, way.takes_s))

    def _way(self, variant: Variant, known: FleetMachine, material: str, grams: Sequence[float]) -> WayToMake:
        model, site = known.model.name, known.row.site
        takes_s = variant.facts[model].planned_s
        hours = exact(takes_s) / 3600
        laid = tuple(MadeOf(material, exact(one), self.spools.get(material.lower())) for one in grams)
        facts = CostFacts(
            model, site, self.settings.zone(site), self.at, self.at + timedelta(seconds=takes_s), laid,
            self.watts[model] * hours if model in self.watts else None, exact(self.settings.planning.clear_min),
        )  # fmt: skip
        cost = self.prices.cost(facts)
        scrap, judged = self.judged.get((variant.file_id, model), (0, 0))
        return WayToMake(variant, model, takes_s, cost, scrap, judged, self._expected(variant.file_id, model))

    def _expected(self, file: int, model: str) -> Decimal:
        """The scrap share of a file on a model, of the file on all, or of all these files: the first that is known from
        enough builds."""
        scopes = (
            [seen for key, seen in self.judged.items() if key == (file, model)],
            [seen for key, seen in self.judged.items() if key[0] == file],
            list(self.judged.values()),
        )
        for seen in scopes:
            judged = sum(of for _, of in seen)
            if judged >= FEWEST_JUDGED:
                return min(MOST_SCRAP, exact(sum(bad for bad, _ in seen) / judged))
        return ZERO


async def load_quoting(db: AsyncSession, fleet: Fleet, now: datetime, jobs: Sequence[WaitingJob]) -> Quoting:
    """What quotes for these jobs are worked out from."""
    models = {known.row.id: known.model.name for known in fleet.all()}
    files = {variant.file_id for job in jobs for variant in job.needs.variants}
    return Quoting(
        fleet.all(), fleet, await load_settings(db), await load_prices(db), await spool_prices(db),
        await watts_of(db, models, now - LEARNT_FROM), await judged_of(db, models, files), now,
    )  # fmt: skip


async def any_of_part(db: AsyncSession, facts: ContentFactsCache, part: t.Part) -> WaitingJob:
    """One piece of a part with no further needs, as if it waited."""
    wish = t.Job(part_id=part.id, requirement={}, copies=1)
    (found,) = await waiting_of(db, facts, [(wish, JobQuantities(1, 0, 0))])
    return found
