"""Jobs, builds, verdicts and notices."""

from __future__ import annotations

from pydantic import Field, field_validator, model_validator

from chronarch.core.states import BuildState, JobState, Outcome, Verdict
from chronarch.wire.common import Label, NozzleMm, Time, Wire


class Requirement(Wire):
    """What a job needs of a machine; what is left empty is any."""

    material: Label = Field(default="", examples=["PLA"])
    colour: Label = Field(default="", examples=["teal"])
    nozzle_mm: NozzleMm | None = Field(default=None, examples=[0.4])
    hardened: bool = False
    machine: Label = ""
    model: Label = ""


class JobOrder(Wire):
    """Copies of a file, or of a part by whichever of its files fits the machine that comes free."""

    file: int | str | None = Field(default=None, examples=["bobbin-32.gcode"])
    """The file's number or its name."""
    part: int | str | None = None
    """The part's number or its name, instead of a file."""
    revision: int | None = Field(default=None, ge=1)
    """Make all copies from this revision of the file; without one each is made from the newest."""
    copies: int = Field(default=1, ge=1, le=10_000)
    requirement: Requirement = Requirement()
    held: bool = False

    @model_validator(mode="after")
    def _one_thing(self) -> JobOrder:
        if (self.file is None) == (self.part is None):
            raise ValueError("say either which file or which part is to be made")
        if self.revision is not None and self.file is None:
            raise ValueError("only a file has revisions; a part's files each have their own")
        return self


class JobChange(Wire):
    """Pin a job to a revision of its file; 0 lets its waiting copies follow the newest."""

    revision: int = Field(ge=0)


class Job(Wire):
    id: int
    file: str
    """The file's name, or the part's."""
    file_id: int | None
    part_id: int | None = None
    revision: int | None = None
    """The revision its waiting copies will be made from; None for a part."""
    pinned: bool = False
    """Whether that was asked; if not, waiting copies follow the newest."""
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


class LeftOut(Wire):
    """An object that hands left out of a running build, and the layer it is missing from on."""

    object: str
    from_layer: int


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
    """What is really fed: the edited content once objects were left out, else the file's."""
    skips: list[LeftOut] = Field(default_factory=list)
    has_log: bool = False


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
