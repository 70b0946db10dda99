"""Spans in which machines may not build."""

from __future__ import annotations

from typing import Annotated

from annotated_types import Interval
from pydantic import Field, model_validator

from chronarch.wire.common import GivenTime, Label, Wire


class NewUpkeep(Wire):
    """A span in which a machine may not build."""

    machine: Label
    begin: GivenTime
    end: GivenTime
    text: Label = Field(default="", examples=["new belts"])
    task: Annotated[int, Interval(ge=1, le=2**31 - 1)] | None = None
    """The task that it is kept free for; it is not needed any more once that is done."""

    @model_validator(mode="after")
    def _forward(self) -> NewUpkeep:
        if self.end <= self.begin:
            raise ValueError("the upkeep ends before it begins")
        return self


class Upkeep(NewUpkeep):
    id: int
