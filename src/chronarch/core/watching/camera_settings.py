"""How a camera's pictures are taken and what is made of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from annotated_types import Interval, Len

Share = Annotated[float, Interval(ge=0, le=0.9)]


@dataclass(frozen=True)
class Crop:
    """What is cut off a picture at each side, as a share of its width or height, before it is turned."""

    left: Share = 0.0
    top: Share = 0.0
    right: Share = 0.0
    bottom: Share = 0.0

    def __post_init__(self) -> None:
        if self.left + self.right > 0.95 or self.top + self.bottom > 0.95:
            raise ValueError("nothing is left of the picture; cut less off")

    @property
    def cuts(self) -> bool:
        return any((self.left, self.top, self.right, self.bottom))


@dataclass(frozen=True)
class CameraSettings:
    """`width_px` is the width that is asked of a local camera, and the most that any frame has; 0 leaves it as it
    comes. `frames_per_s` is what somebody who looks gets at most. `light` names a switch of the machine that is on
    while somebody looks, and while the machine works."""

    turn: Literal[0, 90, 180, 270] = 0
    """Clockwise, in degrees."""
    mirror: bool = False
    """Left and right swapped, after turning."""
    crop: Crop = Crop()
    width_px: Annotated[int, Interval(ge=0, le=7680)] = 0
    frames_per_s: Annotated[float, Interval(ge=0.2, le=15)] = 5.0
    quality: Annotated[int, Interval(ge=30, le=95)] = 80
    """Of the JPEG, where a frame is encoded here."""
    light: Annotated[str, Len(0, 40)] = ""

    @property
    def as_it_comes(self) -> bool:
        """Whether frames of the camera are passed on unchanged."""
        return not (self.turn or self.mirror or self.crop.cuts or self.width_px)
