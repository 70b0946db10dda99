"""What the shop has decided about cameras."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from chronarch.wire.common import Wire

EverySeconds = Annotated[float, Field(ge=5, le=3600, allow_inf_nan=False)]
Gigabytes = Annotated[float, Field(ge=0.1, le=100_000, allow_inf_nan=False)]
FalseAlarms = Annotated[float, Field(ge=0.02, le=1000, allow_inf_nan=False)]
Cores = Annotated[float, Field(ge=0.02, le=64, allow_inf_nan=False)]


class Watching(Wire):
    camera_budget: Cores = 0.5
    """The share of one processor core that the cameras of a tender may take; 2 is two cores."""
    keep_every_s: EverySeconds = 30.0
    """How often a frame is kept of a camera while its machine works, and of rooms always; shop seconds. Frames of
    layers, and of what is worth remembering, are kept beside these."""
    frames_gb: Gigabytes = 20.0
    """What kept frames may take of the disk."""
    films_gb: Gigabytes = 10.0
    """What films may take of the disk."""
    false_alarms_a_week: FalseAlarms = 2.0
    """How many false alarms of the watch the whole shop puts up with in a week; fewer catch fewer failures, later."""


class WatchingUpdate(Wire):
    """What may be changed; what is left out stays."""

    camera_budget: Cores | None = None
    keep_every_s: EverySeconds | None = None
    frames_gb: Gigabytes | None = None
    films_gb: Gigabytes | None = None
    false_alarms_a_week: FalseAlarms | None = None


class FrameCost(Wire):
    """What keeping frames comes to on the disk; GB are 10⁹ bytes."""

    lasting_gb: float
    """Of frames that are thinned with age, once a month has passed."""
    for_ever_gb_a_year: float
    """Of the first and last frames of builds."""
    now_gb: float
    """What kept frames take now."""
    frames: int
    """How many there are now."""
    frame_kb: float
    """The size of a frame that was reckoned with."""
