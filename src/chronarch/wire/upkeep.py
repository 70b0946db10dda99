"""Spans in which machines may not build."""

from __future__ import annotations

from pydantic import Field, model_validator

from chronarch.wire.common import GivenTime, Label, Wire


class NewUpkeep(Wire):
    """A span in which a machine may not build."""

    machine: Label
    begin: GivenTime
    end: GivenTime
    text: Label = Field(default="", examples=["new belts"])

    @model_validator(mode="after")
    def _forward(self) -> NewUpkeep:
        if self.end <= self.begin:
            raise ValueError("the upkeep ends before it begins")
        return self


class Upkeep(NewUpkeep):
    id: int
