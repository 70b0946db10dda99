"""Files, jobs, builds, verdicts and notices."""

from __future__ import annotations

from pydantic import Field, field_validator, model_validator

from chronarch.core.states import BuildState, JobState, Outcome, Verdict
from chronarch.wire.common import Label, NozzleMm, Time, Wire


class FileReading(Wire):
    """What a file says: counts, shop seconds, mm, mm of filament by tool, highest °C asked."""

    lines: int
    commands: int
    planned_s: float
    layers: int
    extents_mm: tuple[tuple[float, float, float], tuple[float, float, float]] | None
    filament_mm: dict[int, float]
    nozzle_c: float
    bed_c: float
    unknown: dict[str, int] = Field(default_factory=dict)


class File(Wire):
    """A sliced file in the library."""

    id: int
    name: str
    sha256: str
    size: int
    added_at: Time
    added_by: str
    reading: FileReading


class Requirement(Wire):
    """What a job needs of a machine; what is left empty is any."""

    material: Label = Field(default="", examples=["PLA"])
    colour: Label = Field(default="", examples=["teal"])
    nozzle_mm: NozzleMm | None = Field(default=None, examples=[0.4])
    hardened: bool = False
    machine: Label = ""
    model: Label = ""


class JobOrder(Wire):
    """Copies of a file to be made."""

    file: int | str = Field(examples=["bobbin-32.gcode"])
    """The file's number or its name."""
    copies: int = Field(default=1, ge=1, le=10_000)
    requirement: Requirement = Requirement()
    held: bool = False


class Job(Wire):
    id: int
    file: str
    file_id: int
    copies: int
    good: int
    building: int
    """Copies that are on a machine now or wait for their verdict."""
    waiting: int
    state: JobState
    requirement: Requirement
    created_at: Time
    created_by: str
    planned_s: float
    why: str = ""
    """While copies wait: why, in one sentence."""


class Build(Wire):
    """One run of one file on one machine."""

    id: int
    job: int
    copy_number: int
    machine: str
    file: str
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


class Clearing(Wire):
    """A person has cleared the bed and says what came of the build."""

    verdict: Verdict
    reason: str = Field(default="", max_length=300, examples=["warped corner"])

    @field_validator("reason")
    @classmethod
    def _trim(cls, value: str) -> str:
        return value.strip()

    @model_validator(mode="after")
    def _scrap_has_reason(self) -> Clearing:
        if self.verdict is Verdict.SCRAP and not self.reason:
            raise ValueError("scrap needs a reason: say what was wrong with the part")
        return self


class Because(Wire):
    reason: str = Field(default="", max_length=300, examples=["wrong colour"])


class Notice(Wire):
    id: int
    at: Time
    machine: str | None
    build: int | None
    severity: str
    """`alarm` when hands are needed, `note` otherwise."""
    text: str
    seen: bool


class Done(Wire):
    """The wish was carried out; `text` says what is so now."""

    text: str
