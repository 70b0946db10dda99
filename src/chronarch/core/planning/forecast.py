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
POOL = 1 << 17
"""In how many different places the chances of a name can begin."""
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
    """Staffed time: only the seconds in which somebody is there."""

    def __init__(self, spans: Sequence[Span], at: datetime) -> None:
        times, counted = [0.0], [0.0]
        for begin, end in spans:
            a, b = (max(0.0, (t - at) / timedelta(seconds=1)) for t in (begin, end))
            if b > a:
                if a > times[-1]:
                    times.append(a)
                    counted.append(counted[-1])
                times.append(b)
                counted.append(counted[-1] + b - a)
        self.times, self.counted = np.array(times), np.array(counted)

    def after(self, ready: Draws, work: Draws | float) -> Draws:
        """The time at which so many staffed seconds have passed since `ready`. Beyond the last known span, time counts
        as staffed."""
        if len(self.times) == 1:
            return np.full_like(ready, np.inf)
        counted = np.interp(ready, self.times, self.counted)
        inside = np.minimum(counted + np.maximum(work, 1e-3), self.counted[-1])
        place = np.minimum(np.maximum(self.counted.searchsorted(inside), 1), len(self.times) - 1)
        after: Draws = np.maximum(ready, self.times[place] - (self.counted[place] - inside))
        return after


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
        self.many = futures
        self.chances = np.random.default_rng(seed).random(POOL + futures)
        self.values: dict[int, Draws] = {}
        self.staffed = {site: _Staffed(spans, shop.at) for site, (spans, _) in shop.hands.items()}
        self.not_before = {w.job: w.not_before_s for w in shop.work}
        self.jobs: dict[int, Draws] = {}
        self.extra: dict[int, Draws] = {}
        self.unplaced = set(plan.unplaced)

    def go(self, dues: Mapping[int, datetime]) -> Forecast:
        by_machine: dict[str, list[Assignment]] = {}
        for a in self.plan.assignments:
            by_machine.setdefault(a.machine, []).append(a)
        ends, clears = {}, {}
        builds: list[tuple[Assignment, tuple[Draws, Draws, Draws]]] = []
        for m in self.shop.machines:
            free, end = self.first(m)
            if end is not None:
                ends[m.name] = end
            if m.phase == 1:
                clears[m.name] = free
            builds += self.planned(m, by_machine.get(m.name, []), free)
        builds.sort(key=lambda b: b[0].start_s)
        totals = {
            job: self.with_scrap(last, self.extra.get(job))
            for job, last in self.jobs.items()
            if job not in self.unplaced
        }
        at = self.shop.at
        times = [_ranges([b[1][n] for b in builds], at) for n in range(3)]
        planned = map(ForecastBuild, (a for a, _ in builds), *times)
        ranges = zip(totals, totals.values(), _ranges(list(totals.values()), at), strict=True)
        done = {job: Completion(when, _chance(total, at, dues.get(job))) for job, total, when in ranges}
        ended, clear = (dict(zip(of, _ranges(list(of.values()), at), strict=True)) for of in (ends, clears))
        return Forecast(at, ended, clear, tuple(planned), done, totals)

    def with_scrap(self, last: Draws, again: Draws | None) -> Draws:
        """When a job is done if in some futures a copy is made once more: after everything else, and lifted off when
        somebody is there."""
        if again is None or not again.any():
            return last
        lifted = self.hands("").after(last + again, float(np.median(self.past.delays())))
        return np.where(again > 0, lifted, last)

    def chance(self, name: str) -> Draws:
        """Numbers from 0 to 1, one for each future; the same for the same name."""
        begin = zlib.crc32(name.encode()) % POOL
        return self.chances[begin : begin + self.many]

    def draw(self, name: str, values: Sequence[float]) -> Draws:
        """Values of the past, one for each future; the same for the same name."""
        known = self.values.get(id(values))
        if known is None:
            known = self.values[id(values)] = np.asarray(values, float)
        return known[(self.chance(name) * len(known)).astype(np.int64)]

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

    def planned(
        self, m: MachineSlot, assignments: Sequence[Assignment], free: Draws
    ) -> list[tuple[Assignment, tuple[Draws, Draws, Draws]]]:
        """Each planned build of a machine with its start, its end and when its bed is clear."""
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
            found.append((a, (start, end, free)))
        return found

    def add(self, job: int, judged: Draws, name: str, seconds: float) -> None:
        """Count a copy of a job that is judged then. In some futures it is scrap and is made once more."""
        self.jobs[job] = np.maximum(self.jobs[job], judged) if job in self.jobs else judged
        again = np.where(self.chance(f"{name} luck") < self.past.scrap, max(seconds, 600.0), 0.0)
        self.extra[job] = np.maximum(self.extra[job], again) if job in self.extra else again


FAR_S = 400 * 86400.0


def _ranges(several: Sequence[Draws], at: datetime) -> list[TimeRange]:
    """What lies between the tenth and the ninetieth of a hundred futures, for each."""
    if not several:
        return []
    seconds = np.quantile(np.minimum(np.array(several), FAR_S), (0.1, 0.5, 0.9), axis=1)
    return [TimeRange(*(at + timedelta(seconds=s) for s in row)) for row in seconds.T.tolist()]


def _chance(seconds: Draws, at: datetime, due: datetime | None) -> float | None:
    return None if due is None else float(np.mean(seconds <= (due - at) / timedelta(seconds=1)))


def _done(seconds: Draws, at: datetime, due: datetime | None) -> Completion:
    return Completion(_ranges([seconds], at)[0], _chance(seconds, at, due))


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
