"""What the watch learns from what people answer."""

from __future__ import annotations

import math
from collections.abc import Iterable

PRIOR_SPREAD = 1.0


def learn_from_answers(answers: Iterable[tuple[float, bool]]) -> float:
    """By how much the log-odds of a kind are to be moved for a camera, from pairs of (probability said, was it so): the
    most likely shift under a normal prior around 0 with standard deviation `PRIOR_SPREAD` (Newton's method)."""
    pairs = [(math.log(p / (1 - p)), float(right)) for said, right in answers for p in [min(0.99, max(0.01, said))]]
    moved = 0.0
    for _ in range(20):
        slope, bend = -moved / PRIOR_SPREAD**2, 1 / PRIOR_SPREAD**2
        for odds, right in pairs:
            p = 1 / (1 + math.exp(-(odds + moved)))
            slope += right - p
            bend += p * (1 - p)
        moved += slope / bend
    return max(-4.0, min(4.0, moved))
