"""The edits a person may wish of a sliced file; `editing` makes them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from annotated_types import Len

from chronarch.core.bounds import Celsius, Counted, LayerNumber, LineNumber, Mm, Percent, Word


@dataclass(frozen=True)
class SetFromLayer:
    """From a layer on: temperatures in °C, fan and speed in %. None leaves as it is."""

    layer: LayerNumber
    nozzle_c: Celsius | None = None
    bed_c: Celsius | None = None
    fan_pct: Percent | None = None
    speed_pct: Percent | None = None
    kind: Literal["set"] = "set"


@dataclass(frozen=True)
class PauseAt:
    """Stop before a layer until a person comes; the message is shown at the machine."""

    layer: LayerNumber
    message: Word = ""
    kind: Literal["pause"] = "pause"


@dataclass(frozen=True)
class SkipObject:
    """Leave one object out, from a layer on."""

    object: Word
    from_layer: LayerNumber = 1
    kind: Literal["skip"] = "skip"


@dataclass(frozen=True)
class Repeat:
    """Lay everything `copies` times in all, side by side, `gap_mm` apart."""

    copies: Counted
    gap_mm: Mm = 5.0
    kind: Literal["repeat"] = "repeat"


@dataclass(frozen=True)
class StartFrom:
    """Begin at a layer; what is below stands on the bed already."""

    layer: LayerNumber
    kind: Literal["start-from"] = "start-from"


@dataclass(frozen=True)
class OwnSections:
    """The model's start or end section, or both, in place of the file's."""

    start: bool = True
    end: bool = True
    kind: Literal["own-sections"] = "own-sections"


@dataclass(frozen=True)
class ReplaceLines:
    """Replace lines `first` to `last` (from 1, both included) by `text`; with `last` = `first` - 1, insert it before
    `first`."""

    first: LineNumber
    last: LineNumber
    text: Annotated[str, Len(0, 1_000_000)]
    kind: Literal["lines"] = "lines"


Edit = SetFromLayer | PauseAt | SkipObject | Repeat | StartFrom | OwnSections | ReplaceLines
