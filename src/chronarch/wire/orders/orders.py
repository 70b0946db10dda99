"""Orders and their lines."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from chronarch.core.bounds import Named, Number
from chronarch.core.orders.requirement import Requirement
from chronarch.core.time_range import TimeRange
from chronarch.wire.common import GivenTime, Promise, Tags, Time, Wire
from chronarch.wire.orders.jobs import Job

Customer = Annotated[
    str, Field(min_length=1, max_length=120, pattern=r"^[^\x00-\x1f\x7f]*$", examples=["Loomfield Weaving School"])
]
MOST_LINES = 200
"""Lines of one order, including lines that are added later."""


class NewOrderLine(Wire):
    """One line: pieces of a part, or of a file."""

    part: Number | Named | None = None
    file: Number | Named | None = None
    quantity: int = Field(default=1, ge=1, le=10_000)
    requirement: Requirement = Requirement()
    note: str = Field(default="", max_length=2000)
    from_stock: int = Field(default=0, ge=0, le=10_000)
    """Pieces to take from stock."""

    @model_validator(mode="after")
    def _one_thing(self) -> NewOrderLine:
        if (self.file is None) == (self.part is None):
            raise ValueError("a line says either which part or which file is wanted")
        if self.from_stock > self.quantity:
            raise ValueError(f"a line of {self.quantity} cannot take {self.from_stock} from stock")
        return self


class NewOrder(Wire):
    """An order to be made."""

    customer: Customer
    note: str = Field(default="", max_length=2000)
    due: GivenTime | None = None
    not_before: GivenTime | None = None
    priority: int = Field(default=0, ge=-2, le=2)
    tags: Tags = Field(default_factory=list)
    held: bool = False
    lines: list[NewOrderLine] = Field(min_length=1, max_length=MOST_LINES)


class OrderChange(Wire):
    """What may be changed of an order; what is left out stays, None takes a time away."""

    customer: Customer | None = None
    note: str | None = Field(default=None, max_length=2000)
    due: GivenTime | None = None
    not_before: GivenTime | None = None
    priority: int | None = Field(default=None, ge=-2, le=2)
    tags: Tags | None = None
    held: bool | None = None
    add: list[NewOrderLine] = Field(default_factory=list, max_length=MOST_LINES)
    """Lines to add."""


class Cancel(Wire):
    """Cancel an order. It must be said what becomes of copies that are being built."""

    running: Literal["finish", "stop"] | None = None
    """`finish`: they go on, and what is good goes to stock; `stop`: they are stopped now."""


class OrderBrief(Wire):
    """An order in a list."""

    id: int
    customer: str
    note: str = ""
    due: Time | None = None
    not_before: Time | None = None
    priority: int = 0
    tags: list[str] = Field(default_factory=list)
    state: Literal["waiting", "held", "running", "finished", "cancelled"]
    pieces: int
    good: int
    building: int
    waiting: int
    expected: TimeRange | None = None
    """When its last piece will have been lifted off."""
    chance: float | None = None
    promise: Promise = "none"
    promise_since: Time | None = None
    promise_why: str = ""
    """What has changed the promise to what it is; empty for the first."""
    words: str = ""
    """How far it is and whether it is in time, in one sentence."""
    created_at: Time
    created_by: str
    finished_at: Time | None = None
    repeats: int | None = None


class Order(OrderBrief):
    lines: list[Job]


class OrderRow(Wire):
    """One row of a CSV of orders (RFC 4180): rows of one `order` belong together."""

    order: str = ""
    customer: str
    due: str = ""
    part: str = ""
    file: str = ""
    quantity: int = 1
    material: str = ""
    colour: str = ""
    nozzle_mm: float | None = None
    pool: str = ""
    note: str = ""
