"""Jobs, builds, verdicts and notices."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, field_validator, model_validator

from chronarch.core.bounds import Counted, Named, Number
from chronarch.core.states import BuildState, JobState, Outcome, Verdict
from chronarch.core.tags import BadTags, parse_tags
from chronarch.wire.common import GivenTime, Label, NozzleMm, Promise, Range, Tags, Time, Wire

Side = Annotated[float, Field(gt=0, lt=10_000, allow_inf_nan=False)]


class Requirement(Wire):
    """What a job needs of a machine; what is left empty is any."""

    material: Label = Field(default="", examples=["PLA"])
    colour: Label = Field(default="", examples=["teal"])
    nozzle_mm: NozzleMm | None = Field(default=None, examples=[0.4])
    hardened: bool = False
    machine: Label = ""
    model: Label = ""
    pool: Label = ""
    tags: str = Field(default="", max_length=300, examples=['"food safe" and not draughty'])
    """Tags that the machine must have, joined by and, or, not."""
    volume_mm: tuple[Side, Side, Side] | None = None
    """The build volume it must have at least."""

    @field_validator("tags")
    @classmethod
    def _readable(cls, value: str) -> str:
        try:
            parse_tags(value)
        except BadTags as error:
            raise ValueError(str(error)) from None
        return value.strip()


class JobOrder(Wire):
    """Pieces of a file, or of a part by whichever of its files fits the machine that comes free."""

    file: Number | Named | None = Field(default=None, examples=["bobbin-32.gcode"])
    """The file's number or its name."""
    part: Number | Named | None = None
    """The part's number or its name, instead of a file."""
    revision: Number | None = None
    """Make all copies from this revision of the file; without one each is made from the newest."""
    copies: int = Field(default=1, ge=1, le=10_000)
    requirement: Requirement = Requirement()
    held: bool = False
    priority: int = Field(default=0, ge=-2, le=2)
    due: GivenTime | None = None
    not_before: GivenTime | None = None
    note: str = Field(default="", max_length=2000)
    tags: Tags = Field(default_factory=list)

    @model_validator(mode="after")
    def _one_thing(self) -> JobOrder:
        if (self.file is None) == (self.part is None):
            raise ValueError("say either which file or which part is to be made")
        if self.revision is not None and self.file is None:
            raise ValueError("only a file has revisions; a part's files each have their own")
        return self


class JobChange(Wire):
    """What may be changed of a job; what is left out stays, None takes a time away."""

    revision: Counted | None = None
    """Pin its waiting copies to a revision of its file; 0 lets them follow the newest."""
    copies: int | None = Field(default=None, ge=1, le=10_000)
    """Fewer than are good already sends the rest to stock."""
    requirement: Requirement | None = None
    priority: int | None = Field(default=None, ge=-2, le=2)
    due: GivenTime | None = None
    not_before: GivenTime | None = None
    note: str | None = Field(default=None, max_length=2000)
    tags: Tags | None = None


class JobBatch(Wire):
    """One wish for several jobs."""

    jobs: list[Number] = Field(min_length=1, max_length=500)
    wish: Literal["hold", "release", "withdraw", "top", "untop"]


class QueueMove(Wire):
    """Put jobs before another one in the line, in the order given; without `before` at its end."""

    jobs: list[Number] = Field(min_length=1, max_length=500)
    before: Number | None = None


class QueueLine(Wire):
    """The queue as it stands: its version is what a move must have seen."""

    version: int
    changed_by: str = ""
    changed_at: Time | None = None
    change: str = ""
    jobs: list[Job]


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
    """Of one build."""
    pieces: int = 1
    """How many pieces one build yields."""
    from_stock: int = 0
    order: int | None = None
    customer: str = ""
    priority: int = 0
    due: Time | None = None
    not_before: Time | None = None
    top: bool = False
    """Put before everything else by hand."""
    note: str = ""
    tags: list[str] = Field(default_factory=list)
    why: str = ""
    """While copies wait: why, in one sentence."""
    expected: Range | None = None
    """When its last copy will have been lifted off."""
    chance: float | None = None
    """How likely that is by its due time, 0 to 1."""
    promise: Promise = "none"


class MachineBlocker(Wire):
    """Why one machine does not take a job now, every reason, and what hands could do about it."""

    machine: str
    reasons: list[str]
    change: str = ""
    hands_s: float = 0.0


class JobWhy(Wire):
    """Why a job waits: each machine with its reasons, and the smallest change that would start it."""

    job: int
    why: str
    change: str = ""
    next: str = ""
    """What the plan has for it next, in words."""
    machines: list[MachineBlocker]


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
    pieces: int = 1
    good_pieces: int | None = None
    let_go: bool = False
    """Whether the machine let go of it by itself."""
    photo: bool = False


class Clearing(Wire):
    """A person has cleared the bed and says what came of the build."""

    verdict: Verdict
    reason: str = Field(default="", max_length=300, examples=["warped corner"])
    good: int | None = Field(default=None, ge=0, le=10_000)
    """Of a build of several pieces: how many are good; all of them, or none, without it."""

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
