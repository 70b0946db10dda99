"""What a plan is made from and what it says. Times are seconds from the snapshot's moment."""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import IntEnum, StrEnum
from functools import cached_property
from math import inf
from typing import NamedTuple

from chronarch.core.hours import Span


class Strategy(StrEnum):
    """How a shop wants the next build chosen."""

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


class Phase(IntEnum):
    """Where a machine stands at the snapshot's moment."""

    CLEAR = 0
    """Its bed is clear: it can start at `free_s`."""
    OCCUPIED = 1
    """Something is on its bed, which hands can lift off from `free_s` on."""
    AWAY = 2
    """Nobody knows when it comes back; nothing is planned for it."""


class Why(IntEnum):
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
class Spool:
    """What is on a tool: material and colour (both empty: nothing), grams left (inf where nobody counts)."""

    material: str = ""
    colour: str = ""
    grams: float = inf


@dataclass(frozen=True)
class Nozzle:
    mm: float
    hardened: bool = False


@dataclass(frozen=True)
class Workplace:
    """A machine as the planner sees it. Machines of one `kind` can make the same things when the same is loaded."""

    name: str
    kind: Hashable
    phase: Phase = Phase.CLEAR
    free_s: float = 0.0
    idle_s: float = 0.0
    """How long it has stood clear already: hands that have not come so long are not expected at once."""
    site: str = ""
    spool: Spool = Spool()
    nozzle: Nozzle = Nozzle(0.4)
    by_hand: bool = False
    """Whether a person starts each of its builds."""
    takes: bool = True
    """Whether it takes work at all."""
    cool_s: float = 0.0
    """From the end of a build until hands may touch the bed."""
    releases: int = 0
    """How many parts in a row it may let go of by itself; 0 for a machine that waits for hands each time."""
    releases_left: int = 0
    release_s: float = 60.0
    upkeep: tuple[tuple[float, float], ...] = ()
    """Spans in which it may not build, in order."""


@dataclass(frozen=True)
class NeedRow:
    """What one build of something needs, as far as hands could change it, and how long it takes by machine kind (a kind
    that is missing cannot make it)."""

    duration_s: Mapping[Hashable, float]
    material: str = ""
    colour: str = ""
    nozzle_mm: float | None = None
    hardened: bool = False
    grams: float = 0.0


@dataclass(frozen=True)
class Work:
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
    """Minutes of hands, as seconds, and what else the rules weigh with."""

    clear_s: float = 180.0
    spool_s: float = 240.0
    nozzle_s: float = 900.0
    walk_s: float = 300.0
    """From a bed being ready until hands are at it while somebody is there, usually."""
    spare_nozzles: tuple[Nozzle, ...] = ()
    steady_s: float = 1800.0
    """What people have seen stays while it would begin within so long of what was said."""


@dataclass(frozen=True)
class Snapshot:
    """A shop at a moment. `spares` are spools that are not on a machine; `hands` the staffed spans by site (`""` for
    sites that are not named there) and how many pairs of hands each has."""

    at: datetime
    machines: tuple[Workplace, ...]
    work: tuple[Work, ...]
    hands: Mapping[str, tuple[tuple[Span, ...], int]]
    spares: tuple[Spool, ...] = ()
    costs: Costs = Costs()
    strategy: Strategy = Strategy.HANDS_AWARE


class Assignment(NamedTuple):
    """One build the plan foresees. Seconds from the snapshot's moment; `hands_s` is when hands are wanted before it
    (to load, change a nozzle or start it), None when it starts by itself."""

    machine: str
    job: int
    hands_s: float | None
    start_s: float
    end_s: float
    cleared_s: float
    load: Spool | None
    nozzle: Nozzle | None
    why: Why
    wait_s: float
    """How long its bed will wait for hands."""
    choices: int
    """How many jobs could have had the machine then; 0 for one that stays from the plan before."""


@dataclass(frozen=True)
class Plan:
    """What each machine does next, in order of start."""

    at: datetime
    strategy: Strategy
    assignments: tuple[Assignment, ...]
    cleared_s: Mapping[str, float] = field(default_factory=dict)
    """When each machine that is occupied at the snapshot's moment will be clear."""
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
