"""Stock."""

from __future__ import annotations

from pydantic import Field, model_validator

from chronarch.core.bounds import Named, Number
from chronarch.wire.common import Wire


class StockRow(Wire):
    """Good pieces that nobody has ordered."""

    part: str | None = None
    file: str | None = None
    material: str = ""
    colour: str = ""
    pieces: int


class StockCount(Wire):
    """How many pieces were counted."""

    part: Number | Named | None = None
    file: Number | Named | None = None
    material: str = Field(default="", max_length=60)
    colour: str = Field(default="", max_length=60)
    pieces: int = Field(ge=0, le=1_000_000)

    @model_validator(mode="after")
    def _one_thing(self) -> StockCount:
        if (self.file is None) == (self.part is None):
            raise ValueError("say either which part or which file was counted")
        return self
