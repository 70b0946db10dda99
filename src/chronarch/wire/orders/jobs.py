"""Jobs and the queue."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, TypeAdapter, model_validator

from chronarch.core.bounds import Counted, Named, Number
from chronarch.core.orders.requirement import Requirement
from chronarch.core.orders.states import JobState
from chronarch.core.time_range import TimeRange
from chronarch.wire.common import GivenTime, Promise, Tags, Time, Wire, as_is

as_is(Requirement)
read_requirement: TypeAdapter[Requirement] = TypeAdapter(Requirement)


class NewJob(Wire):
    """Pieces of a file, or of a part by whichever of its files fits the machine that becomes free."""

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
    def _one_thing(self) -> NewJob:
        if (self.file is None) == (self.part is None):
            raise ValueError("say either which file or which part is to be made")
        if self.revision is not None and self.file is None:
            raise ValueError("only a file has revisions; a part's files each have their own")
        return self


class JobChange(Wire):
    """What may be changed of a job. What is left out stays; None takes a time away."""

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
    """One action on several jobs."""

    jobs: list[Number] = Field(min_length=1, max_length=500)
    wish: Literal["hold", "release", "withdraw", "top", "untop"]


class QueueMove(Wire):
    """Move jobs before another one in the queue, in the order given, or to its end without `before`."""

    jobs: list[Number] = Field(min_length=1, max_length=500)
    before: Number | None = None


class QueueLine(Wire):
    """The queue as it is now. A move must have seen its version."""

    version: int
    changed_by: str = ""
    changed_at: Time | None = None
    change: str = ""
    copies: int = 0
    """How many copies wait, on all pages."""
    work_s: float = 0.0
    """How long it takes one machine to build them."""
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
    """Whether that revision was asked for. If not, waiting copies follow the newest."""
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
    """Planned seconds of one build."""
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
    expected: TimeRange | None = None
    """When its last copy will have been lifted off."""
    chance: float | None = None
    """How likely that is by its due time, 0 to 1."""
    promise: Promise = "none"
    promise_since: Time | None = None
    promise_why: str = ""
    """What has changed the promise to what it is; empty for the first."""
