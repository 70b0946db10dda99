"""Builds and their verdicts."""

from __future__ import annotations

from pydantic import Field, field_validator, model_validator

from chronarch.core.machines.states import BuildState, Outcome
from chronarch.core.orders.states import Verdict
from chronarch.wire.common import Time, Wire


class SkippedObject(Wire):
    """An object that a person left out of a running build, and the layer from which it is missing."""

    object: str
    from_layer: int


class BuildUse(Wire):
    """What one tool had on it for a build, and what it laid."""

    tool: int
    material: str
    colour: str
    nozzle_mm: float
    spool: int | None
    grams: float
    """0 until the build has ended."""


class Build(Wire):
    """One run of one file on one machine."""

    id: int
    job: int
    copy_number: int
    machine: str
    file: str
    file_id: int
    revision: int
    sha256: str
    state: BuildState
    outcome: Outcome | None
    reason: str
    claimed_at: Time
    started_at: Time | None
    ended_at: Time | None
    cleared_at: Time | None
    verdict: Verdict | None
    scrap_reason: str
    judged_by: str
    commands: int
    acknowledged: int
    planned_s: float
    grams: float
    fed_sha256: str = ""
    """What is really fed: the edited content once objects were left out, else that of the file."""
    skips: list[SkippedObject] = Field(default_factory=list)
    has_log: bool = False
    pieces: int = 1
    good_pieces: int | None = None
    let_go: bool = False
    """Whether the machine released it by itself."""
    photo: bool = False
    took_s: int | None = None
    """From its beginning to its end, s."""
    uses: list[BuildUse] = Field(default_factory=list)
    note: str = ""
    tags: list[str] = Field(default_factory=list)


class Clearing(Wire):
    """A person has cleared the bed and says what became of the build."""

    verdict: Verdict
    reason: str = Field(default="", max_length=300, examples=["warped corner"])
    good: int | None = Field(default=None, ge=0, le=10_000)
    """For a build of several pieces: how many are good. Without it all are, or none."""

    @field_validator("reason")
    @classmethod
    def _trim(cls, value: str) -> str:
        return value.strip()

    @model_validator(mode="after")
    def _scrap_has_reason(self) -> Clearing:
        if self.verdict is Verdict.SCRAP and not self.reason:
            raise ValueError("scrap needs a reason: say what was wrong with the part")
        return self
