"""What a tender does during a build for the film of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from annotated_types import Interval


@dataclass(frozen=True)
class HeadAway:
    """At each layer the head is taken out of the picture. `least_layer_s`: layers that are planned shorter are left
    out (s). `settle_s`: how long it stands still before the frame is taken (s). `retract_mm`, `prime_mm`: filament
    pulled back before, and pushed forward after, in mm."""

    least_layer_s: Annotated[float, Interval(ge=0, le=3600)] = 15.0
    settle_s: Annotated[float, Interval(ge=0, le=10)] = 0.3
    retract_mm: Annotated[float, Interval(ge=0, le=10)] = 2.0
    prime_mm: Annotated[float, Interval(ge=0, le=12)] = 2.0


@dataclass(frozen=True)
class FilmTaking:
    """What a tender does for the film of a build: take a frame every `every_s` seconds of shop time (0: not by time),
    or `per_layer` in each layer, or one at each layer with the head out of the picture."""

    every_s: Annotated[float, Interval(ge=0, le=3600)] = 0.0
    per_layer: Annotated[int, Interval(ge=1, le=20)] = 1
    head_away: HeadAway | None = None
