"""A tool of a machine: its nozzle and what is loaded on it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from annotated_types import Interval

from chronarch.core.bounds import Figure, Label, NozzleMm, Number, check_labels


@dataclass(frozen=True)
class Tool:
    """One extruder as it is now: its nozzle and what is loaded on it. Empty texts: nothing loaded."""

    number: Annotated[int, Interval(ge=0, le=15)] = 0
    nozzle_mm: NozzleMm = 0.4
    hardened: bool = False
    material: Label = ""
    colour: Label = ""
    spool: Number | None = None
    """The number of the spool that is loaded, where the shop counts them."""
    grams: Figure | None = None
    """How many grams are left on it; nobody sets them here."""

    def __post_init__(self) -> None:
        check_labels(self, "material", "colour")
