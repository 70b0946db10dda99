"""What must be done by hand at the machines: each task with its place, how long it may wait at no cost, and what
waiting costs. Each kind of task is one rule, all in one table."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from typing import NamedTuple

from chronarch.core.machines.states import WORKING, Intake, MachineState
from chronarch.core.machines.upkeep_calls import Blocks, UpkeepCall
from chronarch.core.planning.together import BedsTogether

SOON = timedelta(minutes=15)
"""How far ahead a round looks for beds that will be ready, so that one walk may do for all of them."""


class TaskKind(StrEnum):
    """What must be done, the most urgent first."""

    LOOK = "look"
    FIX = "fix"
    CLEAR = "clear"
    CONFIRM = "confirm"
    LOAD = "load"
    NOZZLE = "nozzle"
    START = "start"
    UPKEEP = "upkeep"
    JUDGE = "judge"


@dataclass(frozen=True)
class NextBuild:
    """What the plan has for a machine next, and when. `load` and `nozzle` must be put on first; `not_before` is when it
    may begin at the earliest if the machine is clear."""

    what: str
    start: datetime
    load: str = ""
    nozzle: str = ""
    nozzle_mm: float | None = None
    hardened: bool = False
    not_before: datetime | None = None


@dataclass(frozen=True)
class MachineOnRound:
    """What the rounds must know of a machine."""

    machine: str
    state: MachineState
    since: datetime
    site: str = ""
    place: str = ""
    intake: Intake = Intake.OPEN
    reason: str = ""
    build: int | None = None
    what: str = ""
    outcome: str = ""
    ready: datetime | None = None
    """While it builds or cools: when its bed is expected to be ready for a person."""
    next: NextBuild | None = None
    unjudged: tuple[int, ...] = ()
    """Builds that it released by itself and that nobody has judged."""
    stuck: str = ""
    """Why it could not release its part by itself."""
    on_bed: str = ""
    """What seems to lie on its bed though that should be clear."""
    upkeep: tuple[UpkeepCall, ...] = ()
    tool: int | None = None
    """The tool whose spool and nozzle are changed, where it has several."""

    @property
    def taken(self) -> bool:
        """Whether a build is on its way to it or under way, so that nothing must be done yet for the next one."""
        return self.build is not None and not self.outcome


@dataclass(frozen=True)
class Task:
    """`free_until` is how long it may wait at no cost (None: it costs nothing at all); `lost_min` are machine minutes
    lost so far."""

    kind: TaskKind
    machine: str
    site: str
    place: str
    text: str
    since: datetime
    free_until: datetime | None
    lost_min: float
    build: int | None = None
    next: NextBuild | None = None
    upkeep: UpkeepCall | None = None


class AskedOfHands(NamedTuple):
    """What a rule asks for, and until when it may wait at no cost."""

    kind: TaskKind
    text: str
    free_until: datetime | None
    upkeep: UpkeepCall | None = None


def _look(s: MachineOnRound, now: datetime) -> list[AskedOfHands]:
    if s.state is MachineState.IDLE and s.on_bed:
        return [AskedOfHands(TaskKind.LOOK, s.on_bed, s.since)]
    if s.state is not MachineState.PAUSED:
        return []
    return [AskedOfHands(TaskKind.LOOK, f"{s.what} is paused{f': {s.reason}' if s.reason else ''}", s.since)]


def _fix(s: MachineOnRound, now: datetime) -> list[AskedOfHands]:
    if s.state is not MachineState.DOWN:
        return []
    return [AskedOfHands(TaskKind.FIX, s.reason or "it reports a fault", s.since)]


def _clear(s: MachineOnRound, now: datetime) -> list[AskedOfHands]:
    if s.state is not MachineState.UNCLEARED or s.build is None:
        return []
    free = max(s.since, s.next.not_before or s.since) if s.next else None
    if s.stuck:
        return [AskedOfHands(TaskKind.CONFIRM, f"{s.what} was to come off by itself: {s.stuck}", free)]
    ended = "" if s.outcome in ("", "completed") else f", {s.outcome}"
    return [AskedOfHands(TaskKind.CLEAR, f"lift off {s.what}{ended}, and judge it", free)]


def _change(s: MachineOnRound, now: datetime) -> list[AskedOfHands]:
    if s.next is None or s.taken or s.state not in (MachineState.IDLE, MachineState.UNCLEARED):
        return []
    found: list[AskedOfHands] = []
    where = "" if s.tool is None else f" (tool {s.tool})"
    if s.next.nozzle:
        found.append(AskedOfHands(TaskKind.NOZZLE, f"put on {s.next.nozzle}{where} for {s.next.what}", s.since))
    if s.next.load:
        found.append(AskedOfHands(TaskKind.LOAD, f"load {s.next.load}{where} for {s.next.what}", s.since))
    return found


def _start(s: MachineOnRound, now: datetime) -> list[AskedOfHands]:
    by_hand = s.intake is Intake.MANUAL and s.state is MachineState.IDLE
    if s.next is None or s.taken or not by_hand or s.next.load:
        return []
    return [AskedOfHands(TaskKind.START, f"start {s.next.what}", s.since)]


def _upkeep(s: MachineOnRound, now: datetime) -> list[AskedOfHands]:
    """Each one that is due, unless the machine is at work. What keeps it from work costs as long as it waits."""
    if s.state in WORKING or s.taken:
        return []
    return [
        AskedOfHands(TaskKind.UPKEEP, f"{call.name} ({call.minutes:g} min): {call.text}", _closed_since(s, call), call)
        for call in s.upkeep
    ]


def _closed_since(s: MachineOnRound, call: UpkeepCall) -> datetime | None:
    return s.since if call.blocks is Blocks.CLOSES and s.state is MachineState.IDLE else None


def _judge(s: MachineOnRound, now: datetime) -> list[AskedOfHands]:
    if not s.unjudged:
        return []
    many = len(s.unjudged)
    what = "1 part that came off by itself" if many == 1 else f"{many} builds that came off by themselves"
    return [AskedOfHands(TaskKind.JUDGE, f"judge {what}", None)]


RULES: tuple[Callable[[MachineOnRound, datetime], list[AskedOfHands]], ...] = (
    _look,
    _fix,
    _clear,
    _change,
    _start,
    _upkeep,
    _judge,
)


def tasks(stands: Sequence[MachineOnRound], now: datetime) -> list[Task]:
    """What must be done now, the most costly first."""
    found = []
    for s in stands:
        for rule in RULES:
            for asked in rule(s, now):
                free = asked.free_until
                lost = 0.0 if free is None else max(0.0, (now - free) / timedelta(minutes=1))
                build = s.unjudged[0] if asked.kind is TaskKind.JUDGE else s.build
                found.append(
                    Task(
                        asked.kind, s.machine, s.site, s.place, asked.text, s.since, free, lost, build, s.next,
                        asked.upkeep,
                    )
                )  # fmt: skip
    order = list(TaskKind)
    far = datetime.max.replace(tzinfo=now.tzinfo)
    found.sort(key=lambda t: (t.free_until or far, order.index(t.kind), walk_key(t.place), t.machine))
    return found


def batches(stands: Sequence[MachineOnRound], now: datetime, within: timedelta = SOON) -> list[BedsTogether]:
    """By site: two beds or more that will be ready within a while."""
    found = []
    for site in sorted({s.site for s in stands}):
        soon = sorted(
            (s.ready, s.machine) for s in stands if s.site == site and s.ready and now < s.ready <= now + within
        )
        if len(soon) < 2:
            continue
        last = soon[-1][0]
        minutes = max(1, round((last - now) / timedelta(minutes=1)))
        names = tuple(name for _, name in soon)
        where = f" in {site}" if site else ""
        text = f"In {minutes} min {len(names)} more will be ready{where} ({', '.join(names)}): go once."
        found.append(BedsTogether(last, names, text))
    return found


def walk_key(place: str) -> tuple[tuple[int, int | str], ...]:
    """Sorts places as people count them: A2 before A10."""
    return tuple((0, int(p)) if p.isdigit() else (1, p.lower()) for p in re.findall(r"\d+|\D+", place))


def walk(found: Sequence[Task]) -> list[Task]:
    """The same tasks in the order of one walk, by site and place."""
    order = list(TaskKind)
    return sorted(found, key=lambda t: (t.site, walk_key(t.place), t.machine, order.index(t.kind)))
