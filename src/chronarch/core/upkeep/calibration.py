"""Calibration: what a check measured against its nominal and tolerance, and whether it drifts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import pairwise

SPREAD = 2.66
"""Three standard deviations in mean moving ranges of two: 3 / 1.128 (ISO 7870-2, charts of single values)."""
FEWEST = 5
RUN = 6
"""So many readings that rise, or fall, one after another are a drift (ISO 7870-2)."""


class CalibrationVerdict(StrEnum):
    FINE = "fine"
    DRIFTS = "drifts"
    """Within tolerance, but outside what it used to be, or steadily on its way."""
    OUT = "out"


@dataclass(frozen=True)
class Limits:
    """Within which readings used to lie: the mean and three standard deviations on either side."""

    low: float
    mean: float
    high: float


@dataclass(frozen=True)
class Judged:
    verdict: CalibrationVerdict
    limits: Limits | None
    text: str


def limits(readings: Sequence[float]) -> Limits | None:
    """Control limits of readings one after another; None of fewer than `FEWEST`."""
    if len(readings) < FEWEST:
        return None
    mean = sum(readings) / len(readings)
    ranges = [abs(after - before) for before, after in pairwise(readings)]
    spread = SPREAD * sum(ranges) / len(ranges)
    return Limits(mean - spread, mean, mean + spread)


def judge(readings: Sequence[float], nominal: float, tolerance: float, unit: str) -> Judged:
    """What the newest reading says, beside those before it."""
    newest = readings[-1]
    off = newest - nominal
    known = limits(readings[:-1])
    told = f"{newest:g} {unit}, {off:+.3g} of {tolerance:g} allowed"
    if abs(off) > tolerance:
        return Judged(CalibrationVerdict.OUT, known, told)
    run = readings[-RUN:]
    steady = len(run) == RUN and (all(b > a for a, b in pairwise(run)) or all(b < a for a, b in pairwise(run)))
    if steady:
        way = "rises" if run[-1] > run[0] else "falls"
        return Judged(CalibrationVerdict.DRIFTS, known, f"{told}; {way} since {RUN} readings")
    if known is not None and not known.low <= newest <= known.high:
        used = f"used to lie between {known.low:.4g} and {known.high:.4g}"
        return Judged(CalibrationVerdict.DRIFTS, known, f"{told}; {used}")
    return Judged(CalibrationVerdict.FINE, known, told)
