"""The edits a person may wish of a sliced file; `editing` makes them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class SetFromLayer:
    """From a layer on: temperatures in °C, fan and speed in %. None leaves as it is."""

    layer: int
    nozzle_c: float | None = None
    bed_c: float | None = None
    fan_pct: float | None = None
    speed_pct: float | None = None
    kind: Literal["set"] = "set"


@dataclass(frozen=True)
class PauseAt:
    """Stop before a layer until a person comes; the message is shown at the machine."""

    layer: int
    message: str = ""
    kind: Literal["pause"] = "pause"


@dataclass(frozen=True)
class SkipObject:
    """Leave one object out, from a layer on."""

    object: str
    from_layer: int = 1
    kind: Literal["skip"] = "skip"


@dataclass(frozen=True)
class Repeat:
    """Lay everything `copies` times in all, side by side, `gap_mm` apart."""

    copies: int
    gap_mm: float = 5.0
    kind: Literal["repeat"] = "repeat"


@dataclass(frozen=True)
class StartFrom:
    """Begin at a layer; what is below stands on the bed already."""

    layer: int
    kind: Literal["start-from"] = "start-from"


@dataclass(frozen=True)
class OwnSections:
    """The model's start or end section, or both, in place of the file's."""

    start: bool = True
    end: bool = True
    kind: Literal["own-sections"] = "own-sections"


@dataclass(frozen=True)
class ReplaceLines:
    """Lines `first` to `last` (from 1, both included) give way to `text`; `last` = `first` - 1 puts it in before."""

    first: int
    last: int
    text: str
    kind: Literal["lines"] = "lines"


Edit = SetFromLayer | PauseAt | SkipObject | Repeat | StartFrom | OwnSections | ReplaceLines
