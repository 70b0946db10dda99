"""What upkeep asks of a machine now: work that is due at it, or a measure of it that is out of tolerance."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Blocks(StrEnum):
    """What upkeep that is due does to its machine."""

    NOTHING = "nothing"
    WARNS = "warns"
    CLOSES = "closes"
    """The machine takes no work until it is done."""


@dataclass(frozen=True)
class UpkeepCall:
    """`task` is its number, `name` what is to be done, `text` why, `minutes` how long it takes; `check` where it ends
    with a measured value."""

    task: int
    name: str
    text: str
    minutes: float
    blocks: Blocks
    check: bool = False

    @property
    def sentence(self) -> str:
        return f"{self.name}: {self.text}"
