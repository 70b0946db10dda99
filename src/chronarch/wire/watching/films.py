"""Films of builds, and how they are to be made."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, TypeAdapter

from chronarch.core.control.film_poses import Pose, PoseRun
from chronarch.core.control.film_taking import HeadAway
from chronarch.core.machines.states import Outcome
from chronarch.core.orders.states import Verdict
from chronarch.core.watching.film_plan import FilmMark
from chronarch.core.watching.film_settings import FilmScope, FilmSettings
from chronarch.wire.common import Label, Time, Wire, as_is

as_is(FilmSettings, HeadAway, FilmMark, Pose, PoseRun)
film_settings: TypeAdapter[FilmSettings] = TypeAdapter(FilmSettings)

FilmState = Literal["taking", "waiting", "making", "done", "failed"]
"""`taking`: its build has not ended; `waiting`: it is made as soon as the others are."""


class Film(Wire):
    """A film of a build. Its file is at `/api/films/{number}/file`, the picture that stands for it at
    `/api/films/{number}/picture`."""

    number: int
    build: int
    camera: str
    machine: str
    file: str
    file_id: int
    part: str = ""
    part_id: int | None = None
    job: int
    order: int | None = None
    customer: str = ""
    outcome: Outcome | None = None
    verdict: Verdict | None = None
    began_at: Time | None = None
    ended_at: Time | None = None
    """Of the build."""
    state: FilmState
    progress: float = 0.0
    """How much of it is made, 0 to 1."""
    problem: str = ""
    by_itself: bool
    asked_by: str = ""
    settings: FilmSettings
    made_at: Time | None = None
    kept: bool
    size: int
    """Bytes."""
    seconds: float
    width: int
    height: int
    marks: list[FilmMark] = Field(default_factory=list)


class FilmDetail(Film):
    """A film with where in it each layer is."""

    layers: list[tuple[int, float]] = Field(default_factory=list)
    """Each layer that is shown, and the second at which it begins."""


class NewFilm(Wire):
    """A further film of a build, of the frames that are kept."""

    camera: Label = ""
    """Empty for the machine's first."""
    settings: FilmSettings | None = None
    """Empty for what holds for the build."""


class FilmChange(Wire):
    kept: bool | None = None
    """Whether it stays when films come to more than their share of the disk."""


class FilmRule(Wire):
    """How films of a job, an order, a file, a machine or the shop are made. `own`: whether this was set for it; else
    `scope` and `subject` say what it was set for."""

    scope: FilmScope
    subject: str = "0"
    """The machine's name; the number of a job, order or file; 0 for the shop."""
    name: str = ""
    """What people call it."""
    settings: FilmSettings
    own: bool = True


class FilmStanding(Wire):
    """What films take of the disk; GB are 10⁹ bytes."""

    films: int
    now_gb: float
    kept_gb: float
    share_gb: float
