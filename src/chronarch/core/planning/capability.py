"""What a machine has to offer."""

from __future__ import annotations

from dataclasses import dataclass, field

from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.tools import Tool


@dataclass(frozen=True)
class Capability:
    """What one machine has now."""

    machine: str
    model: MachineModel
    tools: tuple[Tool, ...] = field(default_factory=tuple)
    pools: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
