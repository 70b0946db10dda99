"""What a job needs."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Requirement:
    """What a job needs. An empty text or None means any."""

    material: str = ""
    colour: str = ""
    nozzle_mm: float | None = None
    hardened: bool = False
    machine: str = ""
    model: str = ""
    pool: str = ""
    tags: str = ""
    """An expression, as core/machines/tag_expression reads it."""
    volume_mm: tuple[float, float, float] | None = None
    """The build volume it wants at least."""
