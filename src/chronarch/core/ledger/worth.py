"""Is it worth a machine? What the work of a recorded time waited for, and what the planner would have made of that time
with one machine more or less, or with more hands."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from math import inf
from typing import Any, cast

import numpy as np

from chronarch.core.ledger.calendar import StateChanges
from chronarch.core.ledger.measures import STATES
from chronarch.core.ledger.turnaround import Times, microseconds
from chronarch.core.machines.states import MachineState
from chronarch.core.planning.planner import make_plan
from chronarch.core.planning.scenarios import MachineOut, MoreMachines, changed
from chronarch.core.planning.shifts import Span
from chronarch.core.planning.snapshot import Costs, MachineSlot, NeedRow, Snapshot, Strategy, WaitingWork

NEEDS_HANDS = (MachineState.UNCLEARED, MachineState.PAUSED, MachineState.DOWN)
"""States that only a person ends."""
HOUR_US = 3_600_000_000


@dataclass(frozen=True)
class RecordedJob:
    """A job of the recorded time: how many builds of it ran, how long one takes on the models that made it, s, when
    it could have begun, and by when it was due."""

    job: int
    builds: int
    seconds: Mapping[str, float]
    released: datetime
    due: datetime | None = None
    priority: int = 0


@dataclass(frozen=True)
class RecordedWait:
    """The wait of one build: from when it could have begun until it did, microseconds since 1970, and which models
    could have made it."""

    begin: int
    end: int
    models: frozenset[str]


@dataclass(frozen=True)
class WaitedFor:
    """Hours that builds waited, together: while all machines that fit were at work (`machines`), while one of them only
    needed hands, or while one was free and something else kept it from the work (`other`: what is loaded, a hold, the
    order of the queue)."""

    machines_h: float
    hands_h: float
    other_h: float


def waited_for(
    waits: Iterable[RecordedWait], ledgers: Mapping[str, Sequence[StateChanges]], begin: datetime, end: datetime
) -> WaitedFor:
    """What waits were for, by what machines did meanwhile; `ledgers` has those of begin..end by model."""
    by_models: dict[frozenset[str], list[tuple[int, int]]] = {}
    for wait in waits:
        by_models.setdefault(wait.models, []).append((wait.begin, wait.end))
    found = np.zeros(3)
    for models, spans in by_models.items():
        some = [one for model in models for one in ledgers.get(model, ())]
        edges = np.array(spans, np.int64).reshape(-1, 2)
        free = _within(_hours(some, (MachineState.IDLE,), begin, end), edges)
        free_or_hands = _within(_hours(some, (MachineState.IDLE, *NEEDS_HANDS), begin, end), edges)
        whole = float((edges[:, 1] - edges[:, 0]).sum())
        found += [whole - free_or_hands, free_or_hands - free, free]
    machines, hands, other = (found / HOUR_US).tolist()
    return WaitedFor(machines, hands, other)


@dataclass(frozen=True)
class _Steps:
    """Where something holds: `edges`, and how many microseconds it held up to each of them."""

    edges: Times
    held: Times
    holds: np.ndarray[Any, np.dtype[np.bool_]]


def _hours(ledgers: Sequence[StateChanges], states: Sequence[MachineState], begin: datetime, end: datetime) -> _Steps:
    """When at least one machine was in one of some states."""
    codes = [STATES.index(state) for state in states]
    times, steps = [np.array([microseconds(begin), microseconds(end)], np.int64)], [np.zeros(2, np.int64)]
    for one in ledgers:
        inside = np.isin(one.states, codes)
        ends = np.append(one.begins[1:], one.until)
        times += [one.begins[inside], ends[inside]]
        steps += [np.ones(int(inside.sum()), np.int64), -np.ones(int(inside.sum()), np.int64)]
    at, by = np.concatenate(times), np.concatenate(steps)
    order = np.argsort(at, kind="stable")
    edges, count = at[order], np.cumsum(by[order])
    holds = count > 0
    lengths = np.append(np.diff(edges), 0)
    held = np.concatenate([[0], np.cumsum(np.where(holds, lengths, 0))[:-1]])
    return _Steps(edges, held, holds)


def _within(steps: _Steps, spans: Times) -> float:
    """How many microseconds it held within spans, all together."""

    def up_to(at: Times) -> Times:
        place = np.clip(np.searchsorted(steps.edges, at, side="right") - 1, 0, len(steps.edges) - 1)
        more = np.where(steps.holds[place], np.maximum(at - steps.edges[place], 0), 0)
        return steps.held[place] + more

    return float((up_to(spans[:, 1]) - up_to(spans[:, 0])).sum())


def month(
    begin: datetime, machines: Sequence[MachineSlot], jobs: Iterable[RecordedJob],
    hands: Mapping[str, tuple[tuple[Span, ...], int]], costs: Costs, strategy: Strategy,
) -> Snapshot:  # fmt: skip
    """The recorded time as the planner sees it from its beginning: each job can begin when it was there. What is
    loaded on machines is left out: everything is as if the right spool were on."""

    def after(at: datetime | None, otherwise: float) -> float:
        return otherwise if at is None else (at - begin) / timedelta(seconds=1)

    work = []
    for n, job in enumerate(sorted(jobs, key=lambda job: (job.released, job.job))):
        if job.builds and job.seconds:
            need = NeedRow(cast(Mapping[Hashable, float], job.seconds))
            due_s, not_before_s = after(job.due, inf), max(0.0, after(job.released, 0.0))
            work.append(WaitingWork(job.job, job.builds, need, float(n), False, job.priority, due_s, not_before_s))
    return Snapshot(begin, tuple(machines), tuple(work), hands, costs=costs, strategy=strategy)


@dataclass(frozen=True)
class MonthOutcome:
    """What a plan makes of the time: builds that end within it, the mean hours from when a build could have begun until
    it does, jobs due within it and those of them whose last build ends by it, and hours that beds wait for hands."""

    builds: int
    wait_h: float
    due: int
    in_time: int
    beds_h: float


def outcome(shop: Snapshot, end: datetime) -> MonthOutcome:
    """Plan the whole time, and count what becomes of it."""
    plan = make_plan(shop)
    until_s = (end - shop.at) / timedelta(seconds=1)
    work = {one.job: one for one in shop.work}
    last: dict[int, float] = {}
    for a in plan.assignments:
        last[a.job] = max(last.get(a.job, 0.0), a.end_s)
    waits = [a.start_s - work[a.job].not_before_s for a in plan.assignments]
    due = [one for one in shop.work if one.due_s <= until_s]
    in_time = sum(one.job in last and one.job not in plan.unplaced and last[one.job] <= one.due_s for one in due)
    ended = [a for a in plan.assignments if a.end_s <= until_s]
    return MonthOutcome(
        len(ended), sum(waits) / len(waits) / 3600 if waits else 0.0, len(due), in_time,
        sum(a.wait_s for a in ended) / 3600,
    )  # fmt: skip


AWAY_FOR = timedelta(hours=2)
HOUR = timedelta(hours=1)


def more_hands(shop: Snapshot) -> Snapshot:
    """The same with somebody there an hour longer, at each site, whenever people leave for more than two hours."""

    def stretched(spans: Sequence[Span]) -> tuple[Span, ...]:
        following = [begin for begin, _ in spans[1:]]
        gaps = [then - end > AWAY_FOR for (_, end), then in zip(spans, following, strict=False)] + [True]
        longer = zip(spans, gaps, strict=False)
        return tuple((begin, end + HOUR) if leaves else (begin, end) for (begin, end), leaves in longer)

    return replace(shop, hands={site: (stretched(spans), people) for site, (spans, people) in shop.hands.items()})


def one_more(shop: Snapshot, like: str) -> Snapshot:
    return changed(shop, MoreMachines(like, 1))


def one_less(shop: Snapshot, machine: str) -> Snapshot:
    return changed(shop, MachineOut(machine))
