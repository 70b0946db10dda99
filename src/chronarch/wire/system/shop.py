"""The shop and its time, and the events of the live stream."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from chronarch.wire.common import Time, Wire


@dataclass(frozen=True)
class LiveEvent:
    """One server-sent event: its name, its data as JSON, and its number in the change log where it has one."""

    name: str
    data: str
    number: int | None = None


class ShopInfo(Wire):
    """The name of the shop and its time."""

    name: str
    now: Time
    rate: float
    """Shop seconds in one real second; 1 in a real shop."""
    simulated_hands: Literal["", "here", "away"] = ""
    """In the demo: whether its simulated hands do the rounds. Empty in a real shop."""


class HandsWish(Wire):
    """Where the demo's simulated hands are to be."""

    away: bool
