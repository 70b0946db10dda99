"""What must be done by hand, helpers' links, and what happened while somebody was away."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from chronarch.core.machines.upkeep_calls import UpkeepCall
from chronarch.core.planning.together import BedsTogether
from chronarch.core.rounds.tasks import TaskKind
from chronarch.wire.common import Label, Time, Wire, as_is

as_is(BedsTogether, UpkeepCall)


class TaskNext(Wire):
    """What the machine builds after that; `by_hand` when a person starts it."""

    what: str
    start: Time
    load: str = ""
    nozzle: str = ""
    nozzle_mm: float | None = None
    """Diameter of the nozzle that must be put on."""
    hardened: bool = False
    by_hand: bool = False


class RoundTask(Wire):
    """Something that must be done by hand."""

    kind: TaskKind
    machine: str
    site: str
    place: str
    text: str
    since: Time
    free_until: Time | None
    """Until when it costs nothing to wait; None: it never costs anything."""
    lost_min: float
    """Machine minutes that waiting has cost so far."""
    build: int | None = None
    pieces: int = 1
    file: str = ""
    next: TaskNext | None = None
    upkeep: UpkeepCall | None = None
    walk: int
    """Its number in the order of one walk."""


class UpcomingTask(Wire):
    """A bed that will need a person."""

    machine: str
    site: str
    place: str
    at: Time
    late: Time
    what: str


class Rounds(Wire):
    """What must be done by hand, soonest first, and what comes next."""

    at: Time
    staffed: bool
    tasks: list[RoundTask]
    coming: list[UpcomingTask]
    batches: list[BedsTogether]
    scrap_reasons: list[str]
    site: str = ""
    helper: str = ""
    """The helper link's name, when it was asked through one."""


class SinceItem(Wire):
    at: Time
    machine: str
    kind: Literal["ended", "failed", "stopped", "waits", "paused", "down"]
    text: str
    build: int | None = None


class SinceYouLeft(Wire):
    """What happened while somebody was away."""

    left: Time | None
    now: Time
    items: list[SinceItem]
    ended: int
    failed: int
    waits: int
    good_hours: float
    """Machine hours that made parts meanwhile."""


class NewHelper(Wire):
    """A link for somebody without an account: it shows the rounds of one site until it expires or is revoked."""

    name: str = Field(min_length=1, max_length=80, examples=["Saturday help"])
    site: Label = ""
    hours: float = Field(default=12, gt=0, le=24 * 31)


class Helper(Wire):
    id: int
    name: str
    site: str
    created_by: str
    expires_at: Time
    revoked: bool
    expired: bool = False


class CreatedHelper(Helper):
    address: str
    """The address to hand out; it is in this answer and nowhere else."""
