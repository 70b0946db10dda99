"""The watch: where cameras see beds, what is suspected, and what follows."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, TypeAdapter

from chronarch.core.bounds import Number
from chronarch.core.watching.carefulness import CatchRate
from chronarch.core.watching.suspicion import FailureMode
from chronarch.core.watching.watch_rules import Follow, WatchRule, WatchScope
from chronarch.wire.common import COMPOSED, Time, Wire, as_is

as_is(WatchRule, CatchRate)
watch_rule: TypeAdapter[WatchRule] = TypeAdapter(WatchRule)

Pixel = Annotated[float, Field(ge=-20_000, le=40_000, allow_inf_nan=False)]
Corner = tuple[Pixel, Pixel]
Corners = Annotated[list[Corner], Field(min_length=4, max_length=4)]
"""The bed's origin, the corner along x from it, the one opposite, the one along y; pixels from the upper left."""
ObjectName = Annotated[str, Field(max_length=120), COMPOSED]


class BedCorners(Wire):
    """Where a camera sees the bed's corners, in its newest picture, which shows the clear bed; and the tip of the
    nozzle, if somebody marked it. A homed machine knows how high that is, so it makes the vertical better."""

    corners: Corners
    tip: Corner | None = None


class BedSight(Wire):
    """How a camera sees the bed, as worked out from the corners."""

    corners: Corners
    width: int
    height: int
    """Of the picture that the corners are in."""
    error_px: float
    """How far the corners miss where a camera would see them, root mean square."""
    lines: list[list[Corner]]
    """The bed's grid, drawn into the picture: rows of points; and from the bed up to the nozzle's tip."""
    bend: float
    """The lens's radial term."""
    eye_mm: tuple[float, float, float]
    """Where the camera stands, from the bed's origin."""
    mirrored: bool
    """Whether the picture shows left and right swapped."""
    tip: Corner | None = None
    set_at: Time | None = None
    set_by: str = ""


class Suspicion(Wire):
    """What the watch suspects of a build, or of a bed before one, which has no `build`; or what a person said that it
    missed. Its picture is the kept frame `frame`."""

    number: int
    build: int | None = None
    machine: str
    camera: str = ""
    frame: int | None = None
    mode: FailureMode
    object: str = ""
    """What it is about; empty for the whole build."""
    sentence: str
    probability: float
    """0 to 1, the highest that it came to."""
    place: tuple[float, float, float, float] | None = None
    """Where in the picture: left, top, width, height, as shares of it."""
    at: Time
    over_at: Time | None = None
    """When it was no longer likely, or the build had ended."""
    followed: Follow
    problem: str = ""
    """Why what should have followed could not be done."""
    right: bool | None = None
    """What a person said of it; None while nobody has."""
    answered_by: str = ""
    answered_at: Time | None = None
    missed: bool = False
    """Whether a person told of it, and the watch had not."""


class SuspicionAnswer(Wire):
    """What a person says of a suspicion."""

    right: bool


class Missed(Wire):
    """A failure that the watch did not see."""

    mode: FailureMode
    object: ObjectName = ""
    frame: Number
    """A kept frame of the build that shows it."""


class MachineWatch(Wire):
    """How the watch of one machine stands."""

    machine: str
    camera: str = ""
    watching: bool
    """Whether frames of a build are judged now, or would be if it built."""
    why_not: str = ""
    """Why not, and what to do."""
    unjudged: str = ""
    """What keeps the newest frame from being judged."""
    looked_at: Time | None = None
    """When the newest frame that was looked at was taken."""
    bed_unseen: str = ""
    """Why its bed is not looked at before a start, though its builds are watched; and what to do."""


class WatchStanding(Wire):
    """The watch as it is now: what it costs, as a share of a core, and the machines."""

    share: float
    threshold: float
    """The probability from which something is raised."""
    machines: list[MachineWatch]


class WatchRuleView(Wire):
    """What follows for a job, a machine or the shop. `own`: whether this was set for it; else `scope` and `subject` say
    what it was set for."""

    scope: WatchScope
    subject: str = "0"
    """The machine's name; the number of a job; 0 for the shop."""
    rule: WatchRule
    own: bool = True


class WatchCurve(Wire):
    """What share of failures is caught at which rate of false alarms, as measured on labelled builds; and what became
    of the suspicions that people here have answered."""

    building_h_per_week: float
    """How long machines of this shop build in a week, going by the last fortnight."""
    points: list[CatchRate]
    chosen: CatchRate
    right_here: int
    false_here: int
    missed_here: int


class FrameLabel(Wire):
    """A kept frame of a labelled sequence, and what it shows."""

    frame: int
    at_s: float
    """Since the first of them, shop seconds."""
    command: int
    label: str
    """`fine`, or the kind of failure."""
    object: str = ""


class LabelledSequence(Wire):
    """A build, or a bed before a start, of which people have said what it was, as one sequence of a labelled set."""

    name: str
    build: int | None
    """Null for a bed."""
    camera: str
    sha256: str | None
    """Of the build's G-code."""
    corners: Corners
    bed_mm: tuple[float, float]
    head_mm: tuple[float, float, float] | None = None
    """Of a bed: where the nozzle's tip is in its frame, and in the clear bed's."""
    clear_head_mm: tuple[float, float, float] | None = None
    frames: list[FrameLabel]
