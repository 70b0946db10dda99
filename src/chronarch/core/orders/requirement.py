"""What a job needs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from annotated_types import Interval, Len

from chronarch.core.bounds import Label, NozzleMm, check_labels
from chronarch.core.machines.tag_expression import parse_tags

Side = Annotated[float, Interval(gt=0, lt=10_000)]


@dataclass(frozen=True)
class Requirement:
    """What a job needs of a machine. What is left empty can be anything."""

    material: Label = ""
    colour: Label = ""
    nozzle_mm: NozzleMm | None = None
    hardened: bool = False
    machine: Label = ""
    model: Label = ""
    pool: Label = ""
    tags: Annotated[str, Len(0, 300)] = ""
    """Tags that the machine must have, joined by and, or, not."""
    volume_mm: tuple[Side, Side, Side] | None = None
    """The build volume it must have at least."""

    def __post_init__(self) -> None:
        check_labels(self, "material", "colour", "machine", "model", "pool")
        parse_tags(self.tags)
        object.__setattr__(self, "tags", self.tags.strip())
