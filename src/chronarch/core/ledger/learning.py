"""What the shop's own past teaches: how builds keep to their planned time, how long beds wait, how much is scrap."""

from __future__ import annotations

import statistics
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from chronarch.core.orders.states import Verdict
from chronarch.core.planning.shifts import Staffing
from chronarch.core.planning.shop_history import USUAL_SCRAP, ShopHistory

ENOUGH_FOR_PACE, ENOUGH_FOR_SCRAP = 3, 20
"""So many completed builds on a model are needed before its pace is believed; so many verdicts before a share is."""
NEWEST = 100
"""Of each model only so many builds count, the newest ones."""
LEAST_DELAY_S = 30.0


@dataclass(frozen=True)
class EndedBuild:
    """A build that has ended. `busy_s` are the shop seconds in which it was warming or building; pauses and cooling do
    not count."""

    model: str
    machine: str
    site: str
    planned_s: float
    busy_s: float
    completed: bool
    verdict: str
    ready_at: datetime | None
    """When its bed began to wait for somebody."""
    cleared_at: datetime | None
    let_go: bool
    """Whether the machine released it by itself."""

    @property
    def ratio(self) -> float | None:
        """Real seconds for each planned second; None where that says nothing of the pace."""
        return self.busy_s / self.planned_s if self.completed and self.planned_s > 0 and self.busy_s > 0 else None


@dataclass(frozen=True)
class ModelPace:
    """How long builds on a model really take, as a factor on the planned time, learned from this many builds."""

    model: str
    pace: float
    builds: int


@dataclass(frozen=True)
class ModelHistory:
    """What became of a file's or part's builds on one model. `real_s` and `planned_s` are of completed builds."""

    model: str
    builds: int
    good: int
    scrap: int
    completed: int
    planned_s: float
    real_s: float


@dataclass(frozen=True)
class History:
    """What became of all builds of a file or part; `machines` says how many ran on which."""

    builds: int
    good: int
    scrap: int
    unjudged: int
    machines: dict[str, int]
    models: list[ModelHistory]


def _ratios(builds: Iterable[EndedBuild]) -> dict[str, list[float]]:
    """By model, newest first, as the builds are."""
    found: dict[str, list[float]] = {}
    for b in builds:
        if b.ratio is not None:
            found.setdefault(b.model, []).append(b.ratio)
    return {model: ratios[:NEWEST] for model, ratios in found.items()}


def learned_paces(builds: Iterable[EndedBuild]) -> dict[str, ModelPace]:
    """The pace of each model: the median, which a single odd build does not move. `builds` newest first."""
    return {
        model: ModelPace(model, statistics.median(ratios), len(ratios))
        for model, ratios in _ratios(builds).items()
        if len(ratios) >= ENOUGH_FOR_PACE
    }


def shop_history(builds: Sequence[EndedBuild], staffing: Mapping[str, Staffing]) -> ShopHistory:
    """What the forecast draws from, out of builds whose beds were cleared, newest first; `staffing` by site."""
    paces = {}
    for model, ratios in _ratios(builds).items():
        middle = statistics.median_high(ratios)  # the times of the plan contain it already
        paces[model] = [r / middle for r in ratios]
    delays = [
        max(LEAST_DELAY_S, staffing[b.site].between(b.ready_at, b.cleared_at) / timedelta(seconds=1))
        for b in builds
        if b.ready_at is not None and b.cleared_at is not None and not b.let_go and b.cleared_at > b.ready_at
    ]
    verdicts = [b.verdict for b in builds if b.verdict]
    enough = len(verdicts) >= ENOUGH_FOR_SCRAP
    return ShopHistory(paces, delays, verdicts.count(Verdict.SCRAP) / len(verdicts) if enough else USUAL_SCRAP)


def history_of(builds: Sequence[EndedBuild]) -> History:
    """What became of them, by model."""
    models = []
    for model in dict.fromkeys(b.model for b in builds):
        mine = [b for b in builds if b.model == model]
        judged = Counter(b.verdict for b in mine)
        done = [b for b in mine if b.completed and b.busy_s > 0]
        models.append(
            ModelHistory(
                model, len(mine), judged[Verdict.GOOD], judged[Verdict.SCRAP], len(done),
                sum(b.planned_s for b in done), sum(b.busy_s for b in done),
            )
        )  # fmt: skip
    good, scrap = sum(m.good for m in models), sum(m.scrap for m in models)
    machines = Counter(b.machine for b in builds)
    return History(len(builds), good, scrap, len(builds) - good - scrap, dict(machines), models)
