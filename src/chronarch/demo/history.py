"""Three weeks of the shop's past, made by running the rules of the core forward.

Eligibility decides which machine takes what, the state table says what follows what, and the ledger is appended to as
the service does it. Only what people do is random: when they walk by, how they judge, which builds go wrong.
"""

from __future__ import annotations

import heapq
import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from chronarch.core.ledger import intervals as ledger
from chronarch.core.ledger.intervals import Interval
from chronarch.core.machines.states import MACHINE, Intake, MachineEvent, MachineState, Outcome, after
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.states import Verdict
from chronarch.core.planning.capability import Capability
from chronarch.core.planning.eligibility import JobNeed, MachineStatus, blocker
from chronarch.demo.shop import MACHINES, MODELS, DemoMachine

SCRAP = ("warped corner", "layer shift", "stringing", "first layer let go")
TROUBLE = ("filament ran out", "the machine reports a fault: fan 0 stalled")
OPENING_H, CLOSING_H = 8, 17
AILING, AILS_FOR, AILS = "Gnomon", timedelta(days=6), 0.6
"""A machine whose belt has worn: in its last days so large a share of its builds has shifted layers."""
WARM_UP_S, COOLING_S = 92.0, 420.0


@dataclass
class PastFile:
    """What the past needs of a file: planned seconds and need."""

    name: str
    planned_s: float
    need: JobNeed


@dataclass
class PastBuild:
    """One build of the past; `job` and `copy` count within the past."""

    machine: str
    file: PastFile
    job: int
    copy: int
    claimed: datetime
    started: datetime
    ended: datetime
    outcome: Outcome
    reason: str
    share: float
    cleared: datetime
    verdict: Verdict
    scrap_reason: str


@dataclass
class _Job:
    number: int
    file: PastFile
    copies: int
    created: datetime
    taken: int = 0
    again: list[int] = field(default_factory=list)


@dataclass
class _Machine:
    figures: DemoMachine
    capability: Capability
    state: MachineState
    ledger: list[Interval]


@dataclass
class MadeUpPast:
    """The shop's past: builds in the order of their claim, jobs as (file, copies, created), ledgers by machine."""

    builds: list[PastBuild]
    jobs: list[tuple[PastFile, int, datetime]]
    ledgers: dict[str, list[Interval]]


def is_staffed(at: datetime) -> bool:
    """Whether somebody is in the shop: weekdays from eight to five."""
    return at.weekday() < 5 and OPENING_H <= at.hour < CLOSING_H


class _Past:
    """The past, event by event."""

    def __init__(self, files: Sequence[PastFile], begin: datetime, end: datetime, seed: int) -> None:
        self.random = random.Random(seed)
        self.files = files
        self.end = end
        self.events: list[tuple[datetime, int, Callable[[datetime], None]]] = []
        self.order = 0
        models = {m.name: m for m in MODELS}
        self.machines = [
            _Machine(
                m,
                Capability(m.name, models[m.model], (Tool(0, m.nozzle_mm, m.hardened, m.material, m.colour),)),
                MachineState.IDLE,
                ledger.append([], begin, MachineState.IDLE),
            )
            for m in MACHINES
        ]
        self.jobs: list[_Job] = []
        self.builds: list[PastBuild] = []

    def at(self, when: datetime, what: Callable[[datetime], None]) -> None:
        self.order += 1
        heapq.heappush(self.events, (when, self.order, what))

    def go(self) -> None:
        while self.events and self.events[0][0] < self.end:
            when, _, what = heapq.heappop(self.events)
            what(when)

    def enter(self, m: _Machine, event: MachineEvent, when: datetime, build: int | None, reason: str = "") -> None:
        m.state = after(MACHINE, m.state, event)
        m.ledger = ledger.append(m.ledger, when, m.state, build, reason)

    def next_round(self, when: datetime) -> datetime:
        """When somebody next walks by: every quarter of an hour or so while the shop is staffed."""
        when += timedelta(minutes=self.random.uniform(2, 16))
        while not is_staffed(when):
            when = (when + timedelta(hours=1)).replace(minute=self.random.randrange(2, 25))
        return when

    def submit(self, when: datetime) -> None:
        """A few jobs arrive each working morning, and some at noon."""
        for _ in range(self.random.randint(5, 9)):
            file = self.random.choice(self.files)
            self.jobs.append(_Job(len(self.jobs) + 1, file, self.random.randint(2, 6), when))
        self.hand_out(when)

    def hand_out(self, when: datetime) -> None:
        for m in self.machines:
            if m.state is MachineState.IDLE:
                self.offer(m, when)

    def offer(self, m: _Machine, when: datetime) -> None:
        standing = MachineStatus(m.capability, m.state, Intake.OPEN)
        for job in self.jobs:
            if (job.taken < job.copies or job.again) and blocker(job.file.need, standing) is None:
                copy = job.again.pop(0) if job.again else job.taken + 1
                job.taken = max(job.taken, copy)
                self.start(m, job, copy, when)
                return

    def start(self, m: _Machine, job: _Job, copy: int, when: datetime) -> None:
        number = len(self.builds)
        laid = when + timedelta(seconds=WARM_UP_S * self.random.uniform(0.85, 1.2))
        whole_s = (job.file.planned_s - WARM_UP_S) * m.figures.pace * self.random.uniform(0.98, 1.03)
        luck = self.random.random()
        outcome, share, reason = Outcome.COMPLETED, 1.0, ""
        if luck < 0.03:
            outcome, share, reason = Outcome.FAILED, self.random.uniform(0.1, 0.9), "the machine restarted itself"
        elif luck < 0.07:
            outcome, share, reason = Outcome.STOPPED, self.random.uniform(0.05, 0.6), "did not stick to the bed"
        ended = laid + timedelta(seconds=whole_s * share)
        build = PastBuild(m.figures.name, job.file, job.number, copy, when, when, ended, outcome, reason, share,
                          ended, Verdict.GOOD, "")  # fmt: skip
        self.builds.append(build)
        self.enter(m, MachineEvent.START, when, number)
        self.at(laid, lambda t: self.enter(m, MachineEvent.LAID, t, number))
        if 0.07 <= luck < 0.12:
            stopped = laid + (ended - laid) * self.random.uniform(0.2, 0.8)
            build.reason = self.random.choice(TROUBLE)
            self.at(stopped, lambda t: self.trouble(m, build, number, t))
        else:
            self.at(ended, lambda t: self.over(m, build, number, t))

    def trouble(self, m: _Machine, build: PastBuild, number: int, when: datetime) -> None:
        """The build pauses itself; the next round mends it."""
        self.enter(m, MachineEvent.PAUSE, when, number, build.reason)
        back = self.next_round(when) + timedelta(minutes=5)
        build.ended += back - when

        def resume(t: datetime) -> None:
            self.enter(m, MachineEvent.RESUME, t, number)
            self.at(t + timedelta(seconds=60), lambda u: self.enter(m, MachineEvent.LAID, u, number))
            self.at(build.ended + timedelta(seconds=60), lambda u: self.over(m, build, number, u))

        self.at(back, resume)

    def over(self, m: _Machine, build: PastBuild, number: int, when: datetime) -> None:
        build.ended = when
        self.enter(m, MachineEvent.END, when, number)
        cooled = when + timedelta(seconds=COOLING_S * self.random.uniform(0.8, 1.2))
        self.at(cooled, lambda t: self.enter(m, MachineEvent.COOLED, t, number))
        self.at(self.next_round(cooled), lambda t: self.clear(m, build, number, t))

    def clear(self, m: _Machine, build: PastBuild, number: int, when: datetime) -> None:
        build.cleared = when
        ails = m.figures.name == AILING and when > self.end - AILS_FOR
        bad = build.outcome is not Outcome.COMPLETED or self.random.random() < (AILS if ails else 0.04)
        if bad:
            build.verdict = Verdict.SCRAP
            build.scrap_reason = build.reason or ("layer shift" if ails else self.random.choice(SCRAP))
            self.jobs[build.job - 1].again.append(build.copy)
        self.enter(m, MachineEvent.CLEAR, when, None)
        self.offer(m, when)


def make_past(files: Sequence[PastFile], begin: datetime, end: datetime, seed: int = 1911) -> MadeUpPast:
    """The shop's past from `begin` to `end`. Builds still under way at the end are left out of it, with what the ledger
    says of them: those machines have been idle since."""
    run = _Past(files, begin, end, seed)
    day = begin
    while day < end:
        for hour in (8, 11, 14):
            if is_staffed(day.replace(hour=hour)):
                run.at(day.replace(hour=hour, minute=run.random.randrange(5, 40)), run.submit)
        day += timedelta(days=1)
    run.go()
    done = {n for n, b in enumerate(run.builds) if b.cleared > b.ended and b.cleared < end}
    ledgers = {m.figures.name: _without(m.ledger, done) for m in run.machines}
    order = {old: new for new, old in enumerate(sorted(done))}
    ledgers = {name: [_renumbered(i, order) for i in entries] for name, entries in ledgers.items()}
    return MadeUpPast([run.builds[n] for n in sorted(done)], [(j.file, j.copies, j.created) for j in run.jobs], ledgers)


def _without(entries: list[Interval], done: set[int]) -> list[Interval]:
    kept: list[Interval] = []
    for i in entries:
        if i.build is not None and i.build not in done:
            return ledger.append(kept, i.begin, MachineState.IDLE) if kept else [i]
        kept = ledger.append(kept, i.begin, i.state, i.build, i.reason)
    return kept


def _renumbered(i: Interval, order: dict[int, int]) -> Interval:
    return replace(i, build=None if i.build is None else order[i.build])
