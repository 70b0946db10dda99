"""Prices, and what builds, parts and orders cost."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated

from pydantic import Field, model_validator

from chronarch.core.ledger.costs import CostPart, RateKind
from chronarch.core.time_range import TimeRange
from chronarch.wire.common import GivenTime, Label, ShortText, Time, Wire

Amount = Annotated[Decimal, Field(ge=0, le=10_000_000, max_digits=14, decimal_places=6), ShortText()]
Step = Annotated[Decimal, Field(ge=Decimal("0.001"), le=100, max_digits=6, decimal_places=3), ShortText()]
Margin = Annotated[Decimal, Field(ge=0, le=Decimal("0.95"), max_digits=4, decimal_places=3), ShortText()]
Hour = Annotated[int, Field(ge=0, le=24)]


class HoursPrice(Wire):
    """Another price from one hour of the day to another; from 22 to 6 goes over midnight."""

    begin: Hour
    end: Hour
    price: Amount


class MachineHour(Wire):
    """What the price of a machine's hour is worked out from: purchase / life_h + upkeep_h."""

    purchase: Amount
    life_h: Annotated[Decimal, Field(gt=0, le=1_000_000, max_digits=12, decimal_places=2), ShortText()]
    upkeep_h: Amount = Decimal(0)


class NewRate(Wire):
    """A price from `since` on (now without it). `subject`: a material, a site or a model; without it, all that have no
    price of their own. Of a kilogram (material), a kWh (energy), an hour (machine), a minute (hands); for overhead the
    share that is added to all the rest."""

    kind: RateKind
    subject: Label = ""
    since: GivenTime | None = None
    price: Amount | None = None
    hours: list[HoursPrice] = Field(default_factory=list, max_length=24)
    machine: MachineHour | None = None

    @model_validator(mode="after")
    def _one_price(self) -> NewRate:
        if (self.price is None) == (self.machine is None):
            raise ValueError("say a price, or for a machine what it is worked out from")
        if self.machine is not None and self.kind is not RateKind.MACHINE:
            raise ValueError(f"the price of {self.kind} is not worked out from a purchase; say it")
        if self.hours and self.kind is not RateKind.ENERGY:
            raise ValueError(f"the price of {self.kind} does not depend on the hour")
        if self.subject and self.kind in (RateKind.HANDS, RateKind.OVERHEAD):
            raise ValueError(f"{self.kind} has one price for the whole shop; leave out {self.subject!r}")
        if self.kind is RateKind.OVERHEAD and self.price is not None and self.price > 10:
            raise ValueError(f"an overhead of {self.price} is {self.price:.0%}; write 0.15 for 15 %")
        return self


class CostRate(Wire):
    """A price as it is kept."""

    id: int
    kind: RateKind
    subject: str
    since: Time
    price: Decimal
    hours: list[HoursPrice]
    machine: MachineHour | None
    set_by: str
    set_at: Time


class CostSettings(Wire):
    """What all costs and prices are in. `step`: the smallest amount that people pay in; `margin`: the share of a price
    that is left after the cost."""

    currency: Annotated[str, Field(pattern=r"^[A-Z]{3}$")] = "EUR"
    """ISO 4217."""
    step: Annotated[Decimal, Field(ge=Decimal("0.001"), le=100, max_digits=6, decimal_places=3), ShortText()] = Decimal(
        "0.01"
    )
    margin: Annotated[Decimal, Field(ge=0, le=Decimal("0.95"), max_digits=4, decimal_places=3), ShortText()] = Decimal(
        "0.4"
    )


class Cost(Wire):
    """A cost by part. `unpriced` are parts that there was no price for, or no reading,
    which are left out."""

    parts: dict[CostPart, Decimal]
    total: Decimal
    unpriced: list[CostPart] = Field(default=[])


class BuildCost(Wire):
    """What a build cost, and what that is for each of its good pieces."""

    build: int
    currency: str
    cost: Cost
    good_pieces: int
    per_good_piece: Decimal | None


class CostLine(Wire):
    """One line of an order: what it should cost (`quoted`, with the share of it that is for expected scrap), what its
    builds cost up to now (`real`), and what of that is scrap."""

    job: int
    name: str
    quantity: int
    made: int
    """Good pieces so far."""
    quoted: Cost | None
    """Null where no machine can make it, or its file is not read yet."""
    quoted_scrap: Decimal
    made_on: str
    """The model that it is quoted for: the one that makes it at the least cost."""
    price: Decimal | None
    """Its share of the order's price; null where it cannot be quoted."""
    real: Cost
    scrap: Decimal


class OrderCost(Wire):
    """What an order should cost and has cost. `price`: what it is offered for, by the margin."""

    order: int
    currency: str
    margin: Decimal
    lines: list[CostLine]
    quoted: Cost
    quoted_scrap: Decimal
    real: Cost
    scrap: Decimal
    price: Decimal
    """The sum of its lines' prices."""
    ready: TimeRange | None
    """When it is expected to be complete if all of it is released now; null where that cannot be said."""


class PartCost(Wire):
    """What a part costs from one of its files on one model: `each` good piece, of which `scrap` is for expected
    scrap (`scrap_share` of builds, between `low` and `high` 19 times in 20)."""

    file: str
    revision: int
    model: str
    pieces: int
    takes_s: float
    each: Cost
    scrap: Decimal
    scrap_share: float
    low: float
    high: float
    judged: int


class PartCosts(Wire):
    """The ways to make a part, the cheapest first."""

    part: str
    currency: str
    ways: list[PartCost]
