"""What a new shop still wants, step by step."""

from __future__ import annotations

from enum import StrEnum
from typing import Literal

from chronarch.wire.common import Wire


class Step(StrEnum):
    """In the order in which they are taken; each can be skipped."""

    SHOP = "shop"
    HOURS = "hours"
    MACHINES = "machines"
    SPOOLS = "spools"
    MESSAGE = "message"
    BACKUPS = "backups"


class FirstStep(Wire):
    """One step: whether it is done, as the records show, and what there is."""

    step: Step
    standing: Literal["open", "done", "skipped"]
    told: str


class FirstSteps(Wire):
    """All of them. `over`: somebody has said that the shop is set up."""

    steps: list[FirstStep]
    over: bool = False


class FirstStepsChange(Wire):
    """Skip a step, take one up again, or say that the shop is set up (or is not)."""

    skip: Step | None = None
    take_up: Step | None = None
    over: bool | None = None
