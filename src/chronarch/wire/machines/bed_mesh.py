"""How level a bed was."""

from __future__ import annotations

from chronarch.wire.common import Time, Wire


class BedLevel(Wire):
    """How level a bed was: heights in mm, rows from front to back, each from left to right."""

    at: Time
    rows: list[list[float]]
    range_mm: float
    mean_mm: float
    deviation_mm: float
