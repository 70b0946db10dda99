"""How long a hot end takes until it holds what was asked."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import NamedTuple

HOLDS_C = 3.0
"""So near it holds what was asked."""
HOLDS_FOR = timedelta(seconds=10)
COLD_C = 60.0
"""Only a hot end that begins below this is timed: how long a warm one takes says little."""


class Heat(NamedTuple):
    """What was measured and asked at a time, °C."""

    at: datetime
    measured: float
    asked: float


def settling_s(readings: Iterable[Heat]) -> float | None:
    """Seconds from when a cold hot end was asked to heat until it stayed within `HOLDS_C` for `HOLDS_FOR`, the first
    time in the readings; None where that did not happen, or what was asked changed meanwhile."""
    begun: Heat | None = None
    held: datetime | None = None
    for one in readings:
        if begun is None or one.asked != begun.asked:
            cold = one.asked > 2 * COLD_C and one.measured < COLD_C
            begun, held = (one, None) if cold else (None, None)
            continue
        if abs(one.measured - one.asked) > HOLDS_C:
            held = None
        elif held is None:
            held = one.at
        elif one.at - held >= HOLDS_FOR:
            return (held - begun.at) / timedelta(seconds=1)
    return None
