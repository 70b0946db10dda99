"""Spools: what is on the shelf and on tools."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated

from pydantic import Field

from chronarch.wire.common import Label, ShortText, Time, Wire

Grams = Annotated[float, Field(ge=0, le=50_000, allow_inf_nan=False)]
SpoolPrice = Annotated[Decimal, Field(ge=0, le=1_000_000, max_digits=12, decimal_places=4), ShortText()]


class NewSpool(Wire):
    """A reel that has come into the shop."""

    material: Label = Field(min_length=1, examples=["PLA"])
    colour: Label = Field(default="", examples=["teal"])
    grams_full: Grams = 1000
    grams_left: Grams | None = None
    """All of it without this."""
    place: Label = ""
    price: SpoolPrice | None = None
    """Of the whole spool when it was full; without it the material's price holds."""


class SpoolUpdate(Wire):
    """What may be changed of a spool; what is left out stays."""

    grams_left: Grams | None = None
    """What weighing it says, without the reel."""
    place: Label | None = None
    finished: bool | None = None
    price: SpoolPrice | None = None
    """What it cost when it was full. The costs of what was made from it are worked out anew."""


class Spool(Wire):
    id: int
    material: str
    colour: str
    grams_full: float
    grams_left: float
    machine: str | None = None
    """Where it is loaded; None: on the shelf."""
    tool: int | None = None
    place: str = ""
    finished: bool = False
    price: Decimal | None = None
    """Of the whole spool when it was full."""
    added_at: Time


class SpoolEvent(Wire):
    """What was taken from a spool, or what weighing showed."""

    at: Time
    grams: float
    text: str
    by: str


class LoadSpool(Wire):
    """Put a spool on a tool; what was on it goes to the shelf."""

    machine: Label
    tool: int = Field(default=0, ge=0, le=15)
