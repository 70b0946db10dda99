"""The history of builds: what of it is asked for, in which order, and what people write beside a build."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from chronarch.core.bounds import Number, Word
from chronarch.core.machines.states import Outcome
from chronarch.wire.common import COMPOSED, GivenTime, Tags, Time, Wire


class BuildSort(StrEnum):
    """In which order builds are listed."""

    NEWEST = "newest"
    OLDEST = "oldest"
    LONGEST = "longest"
    SHORTEST = "shortest"
    HEAVIEST = "heaviest"


class ExportForm(StrEnum):
    """How builds are written into a file."""

    CSV = "csv"
    JSONL = "jsonl"
    PARQUET = "parquet"


class BuildVerdict(StrEnum):
    """What people said of a build."""

    GOOD = "good"
    SCRAP = "scrap"
    NONE = "none"


class BuildShift(StrEnum):
    """Whether somebody was there when a build ended."""

    STAFFED = "staffed"
    AWAY = "away"


class BuildSearch(Wire):
    """Which builds are wanted. Each thing that is said narrows it; texts are whole names, in whatever case, but for
    `search`, whose words are looked for in files, parts, notes, reasons and tags."""

    machine: Word = ""
    model: Word = ""
    site: Word = ""
    pool: Word = ""
    group: Word = ""
    """A tag of the machine that made it."""
    part: Word = ""
    file: Word = ""
    revision: Number | None = None
    job: Number | None = None
    order: Number | None = None
    customer: Word = ""
    material: Word = ""
    colour: Word = ""
    spool: Number | None = None
    nozzle_mm: Annotated[float, Field(gt=0, le=10)] | None = None
    outcome: Outcome | None = None
    verdict: BuildVerdict | None = None
    scrap_reason: Word = ""
    stop_reason: Word = ""
    """Why it was stopped under way, as figures of stops name it."""
    person: Word = ""
    """Who judged it."""
    tag: Word = ""
    search: Word = ""
    begin: GivenTime | None = None
    """Builds that began then or later."""
    end: GivenTime | None = None
    """Builds that began before."""
    days: Annotated[int, Field(ge=1, le=36_500)] | None = None
    """Builds that began in the last so many days."""
    ended_from: GivenTime | None = None
    """Builds that ended then or later."""
    ended_to: GivenTime | None = None
    """Builds that ended before."""
    weekday: Annotated[int, Field(ge=1, le=7)] | None = None
    """Builds that ended on this day of the week, from 1 (Monday); as `hour` and `shift`, between `ended_from` and
    `ended_to`, by the clock and hours of the machine's site."""
    hour: Annotated[int, Field(ge=0, le=23)] | None = None
    shift: BuildShift | None = None
    uncleared: bool = False
    """Only those whose bed is not cleared yet, including running ones."""
    sort: BuildSort = BuildSort.NEWEST


class BuildListing(BuildSearch):
    """A page of them."""

    limit: int = Field(default=50, ge=1, le=1000)
    """At most so many."""
    after: Word = ""
    """Where the page begins, from the Link of the one before."""


class BuildExport(BuildSearch):
    """All of them, as a file."""

    format: ExportForm = ExportForm.CSV


ViewName = Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[^\x00-\x1f\x7f/]*$"), COMPOSED]


class SavedView(Wire):
    """Which builds are wanted, under a name."""

    name: str
    asked: BuildSearch
    saved_by: str
    saved_at: Time


class BuildNote(Wire):
    """What people write beside a build. What is left out stays."""

    note: Annotated[str, Field(max_length=2000), COMPOSED] | None = None
    tags: Tags | None = None


class Again(Wire):
    """Make builds again, each as a job of its own with the same needs."""

    builds: Annotated[list[Number], Field(min_length=1, max_length=100)]
    copies: int = Field(default=1, ge=1, le=1000)
    """Of each."""
