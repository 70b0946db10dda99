"""How careful the watch is: the probability from which it raises something, chosen on a measured curve by how many
false alarms are put up with."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class CatchRate:
    """What follows of raising a suspicion from a probability on, as measured on labelled builds: false alarms an hour
    of good building; the shares of failures that are caught at all, and within ten minutes; the median time from a
    failure to its alarm."""

    threshold: float
    false_per_h: float
    caught: float
    in_time: float
    delay_s: float


def choose(curve: Sequence[CatchRate], accepted_per_h: float) -> CatchRate:
    """The point that catches most among those with no more false alarms than are accepted; where there is none, the
    one with the fewest. `curve` is in the order of its thresholds, and not empty."""
    within = [point for point in curve if point.false_per_h <= accepted_per_h]
    if within:
        return max(within, key=lambda point: (point.in_time, point.caught, point.threshold))
    return min(curve, key=lambda point: (point.false_per_h, -point.threshold))
