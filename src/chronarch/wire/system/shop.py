"""The shop and its time, and the events of the live stream."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from chronarch.wire.common import Label, Time, Wire


@dataclass(frozen=True)
class LiveEvent:
    """One server-sent event: its name, its data as JSON, and its number in the change log where it has one."""

    name: str
    data: str
    number: int | None = None


DATES = "en-GB"
Language = Annotated[str, Field(pattern=r"^[a-z]{2,3}(-[A-Za-z0-9]{2,8}){0,3}$", max_length=35)]
"""A tag of BCP 47."""


class ShopFacts(Wire):
    """What the shop is called, and the language in which the console writes dates."""

    name: str
    dates: Language = DATES


class ShopChange(Wire):
    """What may be changed of them; what is left out stays."""

    name: Label | None = Field(default=None, min_length=1, examples=["Marrow Lane Fabrication"])
    dates: Language | None = Field(default=None, examples=["en-GB", "de-DE"])


class ShopInfo(ShopFacts):
    """The name of the shop and its time."""

    now: Time
    rate: float
    """Shop seconds in one real second; 1 in a real shop."""
    simulated_hands: Literal["", "here", "away"] = ""
    """In the demo: whether its simulated hands do the rounds. Empty in a real shop."""


class HandsWish(Wire):
    """Where the demo's simulated hands are to be."""

    away: bool
