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
from datetime import UTC, datetime, timedelta
from typing import Any, overload

import numpy as np

from chronarch.core.planning.shifts import Span
from chronarch.core.planning.shop_history import ShopHistory
from chronarch.core.planning.snapshot import Assignment, QueuePlan, Snapshot
from chronarch.core.time_range import TimeRange

FUTURES = 200
POOL = 1 << 17
"""In how many different places the chances of a name can begin."""
Draws = np.ndarray[Any, np.dtype[np.float64]]
Numbers = np.ndarray[Any, np.dtype[np.int64]]


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


class ForecastBuilds(Sequence[ForecastBuild]):
    """The builds the plan foresees, in order of start. A large shop has thousands and shows a page of them, so each is
    made when somebody looks at it. `seconds` holds, by build, what lies a tenth, half and nine tenths into the futures
    of its start, its end and its bed being clear."""

    def __init__(self, at: datetime, assignments: Sequence[Assignment], seconds: Draws) -> None:
        self._at, self._assignments, self._seconds = at, assignments, seconds

    def __len__(self) -> int:
        return len(self._assignments)

    @overload
    def __getitem__(self, n: int) -> ForecastBuild: ...

    @overload
    def __getitem__(self, n: slice) -> Sequence[ForecastBuild]: ...

    def __getitem__(self, n: int | slice) -> ForecastBuild | Sequence[ForecastBuild]:
        if isinstance(n, slice):
            return ForecastBuilds(self._at, self._assignments[n], self._seconds[n])
        return ForecastBuild(self._assignments[n], *_time_ranges(self._seconds[n], self._at))

    def ends_within(self, span: timedelta) -> list[tuple[datetime, str]]:
        """When builds will likely end that end within a span from now, each with its machine."""
        likely = self._seconds[:, 1, 1]
        return [
            (self._at + timedelta(seconds=float(likely[n])), self._assignments[n].machine)
            for n in np.flatnonzero(likely < span / timedelta(seconds=1)).tolist()
        ]

    def last_cleared(self) -> datetime | None:
        """When the last bed will likely be clear."""
        return self._at + timedelta(seconds=float(self._seconds[:, 2, 1].max())) if len(self) else None


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
    builds: ForecastBuilds
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
    """All futures of a plan at once. Arrays have a row for each machine or build and a column for each future."""

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
        self.shop, self.plan, self.past = shop, plan, past
        self.running = {r.machine: r for r in running}
        self.chances = np.random.default_rng(seed).random(POOL + futures)
        self.steps = np.arange(futures)
        pools = [past.delays(), *(past.paces_of(models[m.name]) for m in shop.machines)]
        self.values = np.concatenate([np.asarray(pool, float) for pool in pools])
        self.many = np.array([len(pool) for pool in pools])
        self.begins = np.cumsum(self.many) - self.many
        staffed = {site: _Staffed(spans, shop.at) for site, (spans, _) in shop.hands.items()}
        self.anywhere = staffed.get("", _Staffed((), shop.at))
        self.staffed = [staffed.get(m.site, self.anywhere) for m in shop.machines]
        self.cool_s, self.release_s = (
            np.array([getattr(m, name) for m in shop.machines], float) for name in ("cool_s", "release_s")
        )
        self.releases = np.array([m.releases > 0 for m in shop.machines], bool)
        self.jobs: dict[int, Draws] = {}
        self.extra: dict[int, Draws] = {}

    def go(self, dues: Mapping[int, datetime]) -> Forecast:
        at, machines = self.shop.at, self.shop.machines
        free, ends = self.first()
        clears = _ranges(free, at)
        cleared = {m.name: clears[n] for n, m in enumerate(machines) if m.phase == 1}
        assignments, seconds = self.planned(free)
        unplaced = set(self.plan.unplaced)
        totals = {job: total for job, total in self.with_scrap().items() if job not in unplaced}
        several = np.array(list(totals.values())).reshape(len(totals), len(self.steps))
        said = zip(_ranges(several, at), _chances(several, at, [dues.get(job) for job in totals]), strict=True)
        done = {job: Completion(*each) for job, each in zip(totals, said, strict=True)}
        ended = dict(zip(ends, _ranges(list(ends.values()), at), strict=True))
        return Forecast(at, ended, cleared, ForecastBuilds(at, assignments, seconds), done, totals)

    def with_scrap(self) -> dict[int, Draws]:
        """When each job is done if in some futures a copy is made once more: after everything else, and lifted off
        when somebody is there."""
        if not self.jobs:
            return {}
        last, again = np.array(list(self.jobs.values())), np.array(list(self.extra.values()))
        rows = again.any(axis=1)
        lifted = self.anywhere.after(last[rows] + again[rows], float(np.median(self.past.delays())))
        last[rows] = np.where(again[rows] > 0, lifted, last[rows])
        return dict(zip(self.jobs, last, strict=True))

    def chance(self, names: Sequence[str]) -> Draws:
        """For each name numbers from 0 to 1, one for each future; the same for the same name."""
        begins = np.array([zlib.crc32(name.encode()) % POOL for name in names], np.int64)
        found: Draws = self.chances[begins[:, None] + self.steps]
        return found

    def draw(self, names: Sequence[str], pools: Numbers) -> Draws:
        """For each name values of the past, one for each future, from a pool: 0 is the delays, and those after it each
        machine's paces."""
        place = (self.chance(names) * self.many[pools, None]).astype(np.int64)
        found: Draws = self.values[self.begins[pools, None] + place]
        return found

    def after(self, machines: Numbers, ready: Draws, work: Draws) -> Draws:
        """When so many staffed seconds have passed at each machine's site."""
        found = np.empty_like(ready)
        by_hours: dict[int, list[int]] = {}
        for row, machine in enumerate(machines.tolist()):
            by_hours.setdefault(id(self.staffed[machine]), []).append(row)
        for rows in by_hours.values():
            found[rows] = self.staffed[machines[rows[0]]].after(ready[rows], work[rows])
        return found

    def lifted(self, machines: Numbers, ready: Draws, names: Sequence[str]) -> tuple[Draws, Draws]:
        """When each bed is clear, and when the copy counts: a person judges it when lifting it off. A part that was
        released waits for a person."""
        alone = self.releases[machines]
        released = ready + self.release_s[machines, None]
        waits_from = np.where(alone[:, None], released, ready)
        seen_to = [f"{name} {'judged' if by_itself else 'delay'}" for name, by_itself in zip(names, alone, strict=True)]
        judged = self.after(machines, waits_from, self.draw(seen_to, np.zeros(len(names), np.int64)))
        return np.where(alone[:, None], released, judged), judged

    def first(self) -> tuple[Draws, dict[str, Draws]]:
        """When each machine can start something new, and when the builds that run will end, by machine."""
        machines = self.shop.machines
        free = np.array([m.free_s for m in machines], float)[:, None] + np.zeros(len(self.steps))
        running = [(n, self.running[m.name]) for n, m in enumerate(machines) if m.name in self.running]
        ends = {}
        rows = np.array([n for n, r in running if r.remaining_s > 0], np.int64)
        if len(rows):
            rest_s = np.array([r.remaining_s for _, r in running if r.remaining_s > 0])
            end = rest_s[:, None] * self.draw([f"{machines[n].name} rest" for n in rows], rows + 1)
            ends = {machines[n].name: end[row] for row, n in enumerate(rows)}
            busy = np.array([machines[n].phase != 0 for n in rows], bool)
            free[rows[busy]] = end[busy] + self.cool_s[rows[busy], None]
        rows = np.array([n for n, m in enumerate(machines) if m.phase != 0], np.int64)
        names = [f"{machines[n].name} now" for n in rows]
        free[rows], judged = self.lifted(rows, free[rows], names)
        for row, n in enumerate(rows):
            build = self.running.get(machines[n].name)
            if build is not None:
                self.add([build.job], judged[row : row + 1], [names[row]], np.array([build.remaining_s]))
        return free, ends

    def planned(self, free: Draws) -> tuple[list[Assignment], Draws]:
        """The planned builds in order of their start, with what lies a tenth, half and nine tenths into the futures of
        each one's start, its end and its bed being clear. First every machine's next build, then each one's second,
        and so on."""
        machines = self.shop.machines
        number = {m.name: n for n, m in enumerate(machines)}
        by_machine: list[list[Assignment]] = [[] for _ in machines]
        for a in self.plan.assignments:
            by_machine[number[a.machine]].append(a)
        not_before = {w.job: w.not_before_s for w in self.shop.work}
        said_free = np.array([self.plan.cleared_s.get(m.name, m.free_s) for m in machines], float)
        order: list[tuple[float, int, int, Assignment]] = []
        seconds = [np.zeros((0, 3, 3))]
        for turn in range(max(map(len, by_machine), default=0)):
            rows = np.array([n for n, of in enumerate(by_machine) if len(of) > turn], np.int64)
            builds = [by_machine[n][turn] for n in rows]
            names = [f"{a.machine} {a.job} {turn}" for a in builds]
            hands_s, start_s, end_s, cleared_s, earliest = np.array(
                [(a.hands_s, a.start_s, a.end_s, a.cleared_s, not_before.get(a.job, 0.0)) for a in builds], float
            ).T  # no hands are NaN
            start = np.maximum(free[rows], earliest[:, None])
            late = np.isnan(hands_s) & (start_s > said_free[rows] + 60)
            start[late] = np.maximum(start[late], start_s[late, None])
            hands = np.flatnonzero(~np.isnan(hands_s))
            work = np.maximum(60.0, start_s[hands] - hands_s[hands])
            start[hands] = self.after(rows[hands], start[hands], work[:, None])
            end = start + (end_s - start_s)[:, None] * self.draw([f"{name} pace" for name in names], rows + 1)
            free[rows], judged = self.lifted(rows, end + self.cool_s[rows, None], names)
            said_free[rows] = cleared_s
            self.add([a.job for a in builds], judged, names, end_s - start_s + self.cool_s[rows])
            order += [(a.start_s, n, turn, a) for n, a in zip(rows.tolist(), builds, strict=True)]
            seconds.append(np.stack([_quantiles(each) for each in (start, end, free[rows])], axis=1))
        place = sorted(range(len(order)), key=lambda n: order[n][:3])
        return [order[n][3] for n in place], np.concatenate(seconds)[place]

    def add(self, jobs: Sequence[int], judged: Draws, names: Sequence[str], seconds: Draws) -> None:
        """Count a copy of each job that is judged then. In some futures it is scrap and is made once more."""
        scrap = self.chance([f"{name} luck" for name in names]) < self.past.scrap
        again = np.where(scrap, np.maximum(seconds, 600.0)[:, None], 0.0)
        for job, last, more in zip(jobs, judged, again, strict=True):
            self.jobs[job] = np.maximum(self.jobs[job], last) if job in self.jobs else last
            self.extra[job] = np.maximum(self.extra[job], more) if job in self.extra else more


FAR_S = 400 * 86400.0


def _quantiles(several: Draws | Sequence[Draws]) -> Draws:
    """What lies a tenth, half and nine tenths into the futures of each (n x 3)."""
    if not len(several):
        return np.zeros((0, 3))
    ordered = np.sort(np.minimum(np.asarray(several), FAR_S), axis=1)
    last = ordered.shape[1] - 1
    place = np.array((0.1, 0.5, 0.9)) * last
    below = place.astype(np.int64)
    low, high = ordered[:, below], ordered[:, np.minimum(below + 1, last)]
    found: Draws = low + (high - low) * (place - below)
    return found


def _time_ranges(seconds: Draws, at: datetime) -> list[TimeRange]:
    began_s = at.timestamp()
    times = [[datetime.fromtimestamp(s, UTC) for s in row] for row in (seconds + began_s).tolist()]
    return [TimeRange(*row) for row in times]


def _ranges(several: Draws | Sequence[Draws], at: datetime) -> list[TimeRange]:
    """What lies between the tenth and the ninetieth of a hundred futures, for each."""
    return _time_ranges(_quantiles(several), at)


def _chances(several: Draws, at: datetime, dues: Sequence[datetime | None]) -> list[float | None]:
    """The share of futures in which each is by its due time, None where nothing is due."""
    due_s = np.array([np.nan if due is None else (due - at) / timedelta(seconds=1) for due in dues])
    shares = (several <= due_s[:, None]).mean(axis=1).tolist()
    return [None if due is None else share for due, share in zip(dues, shares, strict=True)]


def _done(seconds: Draws, at: datetime, due: datetime | None) -> Completion:
    return Completion(_ranges([seconds], at)[0], _chances(seconds[None], at, [due])[0])


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
