"""What a plan is made from, and what it says. Times are seconds from the moment of the snapshot."""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import IntEnum, StrEnum
from functools import cached_property
from math import inf
from typing import NamedTuple

from chronarch.core.planning.shifts import Span


class Strategy(StrEnum):
    """How a shop wants the next build to be chosen."""

    FIRST_COME = "first-come"
    DUE_FIRST = "due-first"
    HANDS_AWARE = "hands-aware"


MEANING = {
    Strategy.FIRST_COME: "A machine that comes free takes the first in line that fits it.",
    Strategy.DUE_FIRST: "A machine that comes free takes what is due first of all that fits it; the line decides "
    "where nothing is due.",
    Strategy.HANDS_AWARE: "What would be late otherwise goes first. Of the rest a machine takes what keeps it working "
    "longest for each minute it will wait for hands: by day what ends while somebody is there, before people leave "
    "the longest that fits, and many short ones if it lets go of its parts by itself.",
}


class SlotPhase(IntEnum):
    """The state of a machine at the moment of the snapshot."""

    CLEAR = 0
    """Its bed is clear: it can start at `free_s`."""
    OCCUPIED = 1
    """Something is on its bed that a person can lift off from `free_s` on."""
    AWAY = 2
    """Nobody knows when it comes back; nothing is planned for it."""


class ChoiceReason(IntEnum):
    """Why the plan gives a machine this build rather than another."""

    TOP = 0
    PRIORITY = 1
    DUE = 2
    IN_LINE = 3
    ENDS_STAFFED = 4
    OVERNIGHT = 5
    RELEASES = 6
    ONLY = 7


@dataclass(frozen=True)
class LoadedSpool:
    """What is on a tool: material and colour (both empty for nothing), and the grams left (inf if nobody counts)."""

    material: str = ""
    colour: str = ""
    grams: float = inf


@dataclass(frozen=True)
class Nozzle:
    mm: float
    hardened: bool = False


@dataclass(frozen=True)
class MachineSlot:
    """A machine as the planner sees it. Machines of one `kind` can make the same things when the same is loaded."""

    name: str
    kind: Hashable
    phase: SlotPhase = SlotPhase.CLEAR
    free_s: float = 0.0
    idle_s: float = 0.0
    """How long its bed has been clear already. After a long wait, a person is not expected at once."""
    site: str = ""
    spool: LoadedSpool = LoadedSpool()
    nozzle: Nozzle = Nozzle(0.4)
    by_hand: bool = False
    """Whether a person starts each of its builds."""
    takes: bool = True
    """Whether it takes work at all."""
    cool_s: float = 0.0
    """Seconds from the end of a build until the bed may be touched."""
    releases: int = 0
    """How many parts in a row it may release by itself; 0 for a machine that needs a person each time."""
    releases_left: int = 0
    release_s: float = 60.0
    upkeep: tuple[tuple[float, float], ...] = ()
    """Spans in which it may not build, in order."""


@dataclass(frozen=True)
class NeedRow:
    """What one build needs of what a person can load, and how long it takes on each kind of machine. A kind that
    is missing cannot make it."""

    duration_s: Mapping[Hashable, float]
    material: str = ""
    colour: str = ""
    nozzle_mm: float | None = None
    hardened: bool = False
    grams: float = 0.0

    @cached_property
    def shortest_s(self) -> float:
        """How long it takes on the quickest kind of machine; 0 when none can make it."""
        return min(self.duration_s.values(), default=0.0)


@dataclass(frozen=True)
class WaitingWork:
    """Waiting builds of one job. `line` is its place in the queue, lowest first."""

    job: int
    builds: int
    need: NeedRow
    line: float = 0.0
    top: bool = False
    """Put before everything else by hand."""
    priority: int = 0
    due_s: float = inf
    not_before_s: float = 0.0


@dataclass(frozen=True)
class Costs:
    """How long work by hand takes, in seconds, and what else the rules consider."""

    clear_s: float = 180.0
    spool_s: float = 240.0
    nozzle_s: float = 900.0
    walk_s: float = 300.0
    """Usual seconds from a bed being ready until a person is at it, while somebody is there."""
    spare_nozzles: tuple[Nozzle, ...] = ()
    steady_s: float = 1800.0
    """What people have seen in the plan stays if it would begin within this many seconds of what was said."""


@dataclass(frozen=True)
class Snapshot:
    """A shop at one moment. `spares` are spools that are on no machine. `hands` has, by site, the staffed spans and how
    many people work there (`""` for sites that are not named)."""

    at: datetime
    machines: tuple[MachineSlot, ...]
    work: tuple[WaitingWork, ...]
    hands: Mapping[str, tuple[tuple[Span, ...], int]]
    spares: tuple[LoadedSpool, ...] = ()
    costs: Costs = Costs()
    strategy: Strategy = Strategy.HANDS_AWARE


class Assignment(NamedTuple):
    """One planned build. Seconds from the moment of the snapshot. `hands_s` is when a person is needed before it (to
    load, change a nozzle or start it); None when it starts by itself."""

    machine: str
    job: int
    hands_s: float | None
    start_s: float
    end_s: float
    cleared_s: float
    load: LoadedSpool | None
    nozzle: Nozzle | None
    why: ChoiceReason
    wait_s: float
    """How long its bed will wait for a person."""
    choices: int
    """How many jobs could have had the machine then; 0 for one that stays from the plan before."""


@dataclass(frozen=True)
class QueuePlan:
    """What each machine does next, in order of start."""

    at: datetime
    strategy: Strategy
    assignments: tuple[Assignment, ...]
    cleared_s: Mapping[str, float] = field(default_factory=dict)
    """When each machine that is occupied now will be clear."""
    unplaced: Mapping[int, int] = field(default_factory=dict)
    """Builds that no machine can take, by job."""

    def time(self, seconds: float) -> datetime:
        return self.at + timedelta(seconds=seconds)

    def of(self, machine: str) -> list[Assignment]:
        return [a for a in self.assignments if a.machine == machine]

    def next_on(self, machine: str) -> Assignment | None:
        return self._first.get(machine)

    @cached_property
    def _first(self) -> dict[str, Assignment]:
        return {a.machine: a for a in reversed(self.assignments)}
