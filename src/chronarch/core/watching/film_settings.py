"""How a film of a build is made: of which frames, how fast, how large. What a shop has decided is the rule that is most
particular: that of the job, else of its order, the file, the machine, or the shop."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Annotated, Literal

from annotated_types import Interval

from chronarch.core.control.film_taking import FilmTaking, HeadAway

FilmForm = Literal["webm", "mp4"]
HoldSeconds = Annotated[float, Interval(ge=0, le=10)]
MOST_SECONDS = 600.0
"""A film is at most so long."""


class FilmScope(StrEnum):
    """What a rule is for; the most particular one first."""

    JOB = "job"
    ORDER = "order"
    FILE = "file"
    MACHINE = "machine"
    SHOP = "shop"


@dataclass(frozen=True)
class FilmSettings:
    """How a film is made. `layer` shows `per_layer` frames of each layer, `time` one every `every_s` seconds of shop
    time. `length_s` makes the film so long whatever it shows; 0 shows each frame once, `fps` a second."""

    make: bool = True
    """Whether one is made of each build by itself."""
    by: Literal["layer", "time"] = "layer"
    per_layer: Annotated[int, Interval(ge=1, le=20)] = 1
    every_s: Annotated[float, Interval(ge=1, le=3600)] = 30.0
    fps: Annotated[int, Interval(ge=1, le=60)] = 25
    length_s: Annotated[float, Interval(ge=0, le=MOST_SECONDS)] = 0.0
    hold_first_s: HoldSeconds = 0.5
    hold_last_s: HoldSeconds = 2.0
    first_layer: Annotated[int, Interval(ge=1, le=10_000_000)] = 1
    last_layer: Annotated[int, Interval(ge=0, le=10_000_000)] = 0
    """0 for the last one that there is."""
    width_px: Annotated[int, Interval(ge=160, le=3840)] = 1280
    """At most; a camera that gives less is not enlarged."""
    stamp: bool = True
    """Whether time and layer are written into a corner."""
    form: FilmForm = "webm"
    """`webm` is VP9, `mp4` is H.264."""
    head_away: HeadAway | None = None

    def __post_init__(self) -> None:
        if self.last_layer and self.last_layer < self.first_layer:
            raise ValueError(f"the last layer, {self.last_layer}, comes before the first, {self.first_layer}")
        if 0 < self.length_s < self.hold_first_s + self.hold_last_s:
            raise ValueError("the film is to be shorter than its first and last frame are held")

    def taking(self) -> FilmTaking | None:
        """The frames that a film needs beside those of each layer; None if those are enough."""
        if self.by == "time":
            return FilmTaking(every_s=self.every_s)
        if self.per_layer > 1 or self.head_away:
            return FilmTaking(per_layer=self.per_layer, head_away=self.head_away)
        return None
