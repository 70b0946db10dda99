"""Clocks that are not what they should be: this computer's, and those of the tenders."""

from __future__ import annotations

from collections.abc import Iterable

from chronarch.core.clock import Clock
from chronarch.service.machines.fleet import TenderConnection

SET_S, APART_S = 5.0, 20.0
"""Real seconds: how far this computer's clock may have been set, and how far a tender's may be from it. What a tender
says may be on its way for a while."""


def clock_troubles(clock: Clock, tenders: Iterable[TenderConnection]) -> list[str]:
    """What is wrong with them, in words."""
    found = []
    if abs(clock.set_by_s()) > SET_S:
        how = "forward" if clock.set_by_s() > 0 else "back"
        found.append(
            f"this computer's clock was put {how}; the service is {_span(clock.set_by_s())} from it, and follows slowly"
        )
    for one in tenders:
        if one.ahead_s is not None and abs(one.ahead_s) > APART_S:
            how = "ahead of" if one.ahead_s > 0 else "behind"
            found.append(
                f"the clock of the tender {one.name} is {_span(one.ahead_s)} {how} the service's; set it right"
            )
    return found


def _span(seconds: float) -> str:
    return f"{abs(seconds):.0f} s" if abs(seconds) < 120 else f"{abs(seconds) / 60:.0f} min"
