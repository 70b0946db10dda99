"""A tool of a machine: its nozzle and what is loaded on it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Tool:
    """One extruder as it is now: its nozzle and what is loaded on it. Empty texts: nothing loaded."""

    number: int
    nozzle_mm: float
    hardened: bool = False
    material: str = ""
    colour: str = ""
    spool: int | None = None
    """The number of the spool that is loaded, where the shop counts them."""
    grams: float | None = None
    """How many grams are left on it."""
