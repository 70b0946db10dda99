"""When things will be done: a plan run forward many times with the paces, delays and scrap that the shop's own past has
shown, and what lies between the tenth and the ninetieth of a hundred such futures.

Each future draws for every build how it keeps to its planned time, for every bed how long it waits once somebody is
there, and for every copy whether it is scrap. Draws are the past's own values (a bootstrap: Efron, 1979), so nothing is
assumed of their shape.
"""

from __future__ import annotations

import zlib
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np

from chronarch.core.planning.shifts import Span
from chronarch.core.planning.shop_history import ShopHistory
from chronarch.core.planning.snapshot import Assignment, MachineSlot, QueuePlan, Snapshot
from chronarch.core.time_range import TimeRange

FUTURES = 200
Draws = np.ndarray[Any, np.dtype[np.float64]]


@dataclass(frozen=True)
class RunningBuild:
    """A build on a machine: its job, and the seconds that are left at its own pace (0 when it has ended)."""

    machine: str
    job: int
    remaining_s: float
    pieces: int = 1


@dataclass(frozen=True)
class ForecastBuild:
    """One build the plan foresees, with when it will begin and end."""

    assignment: Assignment
    start: TimeRange
    end: TimeRange
    cleared: TimeRange


@dataclass(frozen=True)
class Completion:
    """When the last copy of something will have been lifted off and judged; `chance` is the share of futures in which
    that is by its due time, None when nothing is due."""

    when: TimeRange | None
    chance: float | None = None


@dataclass(frozen=True)
class Forecast:
    """`ends` and `clears` are of builds that run or wait for hands, by machine; `jobs` has those that the plan can
    finish. `futures` are each job's seconds from now."""

    at: datetime
    ends: Mapping[str, TimeRange]
    clears: Mapping[str, TimeRange]
    builds: tuple[ForecastBuild, ...]
    jobs: Mapping[int, Completion]
    futures: Mapping[int, Draws]

    def together(self, jobs: Sequence[int], due: datetime | None, built: Collection[int] = ()) -> Completion:
        """When the last of several jobs is done; without a time when one of them cannot be. Jobs in `built` have
        nothing that waits: if the plan does not know them, their parts were released and must only be judged."""
        if not jobs or any(job not in self.futures and job not in built for job in jobs):
            return Completion(None, None if due is None else 0.0)
        known = [self.futures[job] for job in jobs if job in self.futures]
        return _done(np.max(known, axis=0) if known else np.zeros(1), self.at, due)


class _Staffed:
    """Time as people work: only the seconds in which somebody is there."""

    def __init__(self, spans: Sequence[Span], at: datetime) -> None:
        self.times, self.counted = [0.0], [0.0]
        for begin, end in spans:
            a, b = (max(0.0, (t - at) / timedelta(seconds=1)) for t in (begin, end))
            if b > a:
                if a > self.times[-1]:
                    self.times.append(a)
                    self.counted.append(self.counted[-1])
                self.times.append(b)
                self.counted.append(self.counted[-1] + b - a)

    def after(self, ready: Draws, work: Draws | float) -> Draws:
        """When so many staffed seconds have passed since `ready`. Beyond the last known span, time counts as
        staffed."""
        counted = np.interp(ready, self.times, self.counted)
        inside = np.minimum(counted + np.maximum(work, 1e-3), self.counted[-1])
        place = np.searchsorted(self.counted, inside, side="left")
        place = np.clip(place, 1, len(self.times) - 1) if len(self.times) > 1 else np.zeros_like(place)
        if len(self.times) == 1:
            return np.full_like(ready, np.inf)
        end_time, end_count = np.take(self.times, place), np.take(self.counted, place)
        return np.asarray(np.maximum(ready, end_time - (end_count - inside)), float)


def forecast(
    shop: Snapshot,
    plan: QueuePlan,
    running: Sequence[RunningBuild],
    past: ShopHistory,
    models: Mapping[str, str],
    *,
    dues: Mapping[int, datetime] | None = None,
    futures: int = FUTURES,
    seed: int = 0,
) -> Forecast:
    """Run a plan forward. `models` is each machine's model, `dues` when a job is due. The same arguments give the same
    answer."""
    run = _Futures(shop, plan, running, past, models, futures, seed)
    return run.go(dues or {})


class _Futures:
    def __init__(
        self,
        shop: Snapshot,
        plan: QueuePlan,
        running: Sequence[RunningBuild],
        past: ShopHistory,
        models: Mapping[str, str],
        futures: int,
        seed: int,
    ) -> None:
        self.shop, self.plan, self.past, self.models = shop, plan, past, models
        self.running = {r.machine: r for r in running}
        self.many, self.seed = futures, seed
        self.staffed = {site: _Staffed(spans, shop.at) for site, (spans, _) in shop.hands.items()}
        self.not_before = {w.job: w.not_before_s for w in shop.work}
        self.jobs: dict[int, list[Draws]] = {}
        self.extra: dict[int, Draws] = {}
        self.unplaced = set(plan.unplaced)

    def go(self, dues: Mapping[int, datetime]) -> Forecast:
        by_machine: dict[str, list[Assignment]] = {}
        for a in self.plan.assignments:
            by_machine.setdefault(a.machine, []).append(a)
        ends, clears, builds = {}, {}, []
        for m in self.shop.machines:
            free, end = self.first(m)
            if end is not None:
                ends[m.name] = _range(end, self.shop.at)
            if m.phase == 1:
                clears[m.name] = _range(free, self.shop.at)
            builds += self.planned(m, by_machine.get(m.name, []), free)
        builds.sort(key=lambda b: b.assignment.start_s)
        totals = {}
        for job, draws in self.jobs.items():
            if job not in self.unplaced:
                totals[job] = self.with_scrap(np.max(draws, axis=0), self.extra.get(job))
        done = {job: _done(total, self.shop.at, dues.get(job)) for job, total in totals.items()}
        return Forecast(self.shop.at, ends, clears, tuple(builds), done, totals)

    def with_scrap(self, last: Draws, again: Draws | None) -> Draws:
        """When a job is done if in some futures a copy is made once more: after everything else, and lifted off when
        somebody is there."""
        if again is None or not again.any():
            return last
        lifted = self.hands("").after(last + again, float(np.median(self.past.delays())))
        return np.where(again > 0, lifted, last)

    def draw(self, name: str, values: Sequence[float] | Draws) -> Draws:
        """Values of the past, one for each future; the same for the same name."""
        rnd = np.random.default_rng((self.seed, zlib.crc32(name.encode())))
        return np.asarray(rnd.choice(np.asarray(values, float), self.many))

    def hands(self, site: str) -> _Staffed:
        return self.staffed.get(site) or self.staffed.get("") or _Staffed((), self.shop.at)

    def clear(self, m: MachineSlot, ready: Draws, name: str) -> Draws:
        if m.releases:
            return ready + m.release_s
        return self.hands(m.site).after(ready, self.draw(f"{name} delay", self.past.delays()))

    def judged(self, m: MachineSlot, cleared: Draws, name: str) -> Draws:
        """When a copy counts: a person judges it when lifting it off. A part that was released waits for a person."""
        if not m.releases:
            return cleared
        return self.hands(m.site).after(cleared, self.draw(f"{name} judged", self.past.delays()))

    def first(self, m: MachineSlot) -> tuple[Draws, Draws | None]:
        """When a machine can start something new, and when its present build ends."""
        zero = np.zeros(self.many)
        running = self.running.get(m.name)
        end = None
        if running is not None and running.remaining_s > 0:
            end = running.remaining_s * self.draw(f"{m.name} rest", self.past.paces_of(self.models[m.name]))
        if m.phase == 0:
            return zero + m.free_s, end
        ready = end + m.cool_s if end is not None else zero + m.free_s
        cleared = self.clear(m, ready, f"{m.name} now")
        if running is not None:
            self.add(running.job, self.judged(m, cleared, f"{m.name} now"), f"{m.name} now", running.remaining_s)
        return cleared, end

    def planned(self, m: MachineSlot, assignments: Sequence[Assignment], free: Draws) -> list[ForecastBuild]:
        found = []
        paces = self.past.paces_of(self.models[m.name])
        said_free = self.plan.cleared_s.get(m.name, m.free_s)
        for n, a in enumerate(assignments):
            name = f"{m.name} {a.job} {n}"
            start = np.maximum(free, self.not_before.get(a.job, 0.0))
            if a.hands_s is not None:
                start = self.hands(m.site).after(start, max(60.0, a.start_s - a.hands_s))
            elif a.start_s > said_free + 60:
                start = np.maximum(start, a.start_s)
            end = start + (a.end_s - a.start_s) * self.draw(f"{name} pace", paces)
            free = self.clear(m, end + m.cool_s, name)
            said_free = a.cleared_s
            self.add(a.job, self.judged(m, free, name), name, a.end_s - a.start_s + m.cool_s)
            at = self.shop.at
            found.append(ForecastBuild(a, _range(start, at), _range(end, at), _range(free, at)))
        return found

    def add(self, job: int, judged: Draws, name: str, seconds: float) -> None:
        """Count a copy of a job that is judged then. In some futures it is scrap and is made once more."""
        self.jobs.setdefault(job, []).append(judged)
        scrap = self.draw(f"{name} luck", np.linspace(0, 1, 1001)) < self.past.scrap
        again = np.where(scrap, max(seconds, 600.0), 0.0)
        self.extra[job] = np.maximum(self.extra.get(job, np.zeros(self.many)), again)


FAR_S = 400 * 86400.0


def _range(seconds: Draws, at: datetime) -> TimeRange:
    early, likely, late = (
        at + timedelta(seconds=float(s)) for s in np.quantile(np.minimum(seconds, FAR_S), (0.1, 0.5, 0.9))
    )
    return TimeRange(early, likely, late)


def _done(seconds: Draws, at: datetime, due: datetime | None) -> Completion:
    chance = None if due is None else float(np.mean(seconds <= (due - at) / timedelta(seconds=1)))
    return Completion(_range(seconds, at), chance)


IN_TIME, AT_RISK = 0.9, 0.5


def promise(done: Completion, due: datetime | None, finished_at: datetime | None = None) -> str:
    """How something stands against its due time, in one word: `done`, `none` (nothing is due), `in time`, `at risk`,
    `late`, `unknown` (it cannot be finished as things are)."""
    if finished_at is not None:
        return "done" if due is None or finished_at <= due else "late"
    if due is None:
        return "none" if done.when is not None else "unknown"
    if done.when is None:
        return "unknown"
    chance = done.chance or 0.0
    return "in time" if chance >= IN_TIME else "at risk" if chance >= AT_RISK else "late"
