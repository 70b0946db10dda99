"""What hands ask of a machine, and how it stands towards them."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from pydantic import ConfigDict, Field, TypeAdapter

from chronarch.core import hands as core
from chronarch.core.bounds import Word
from chronarch.wire.common import Time, Wire

for _kind in get_args(core.Action):
    _kind.__pydantic_config__ = ConfigDict(extra="forbid", allow_inf_nan=False)

Action = Annotated[core.Action, Field(discriminator="kind")]
action: TypeAdapter[core.Action] = TypeAdapter(Action)


class Settings(Wire):
    """What hands have set of a running build: %, and mm from what the file says."""

    speed_pct: float = 100
    flow_pct: float = 100
    fan_pct: float | None = None
    """None while nobody has set it: the file does."""
    z_offset_mm: float = 0


class Contact(Wire):
    """What a machine says of itself."""

    firmware: str = ""
    words: dict[str, str] = Field(default_factory=dict)
    capabilities: dict[str, bool] = Field(default_factory=dict)
    numbered_oks: bool = False


class Hands(Wire):
    """How a machine stands towards hands: what may be asked of it now, and what of it is still on its way."""

    moment: Literal["free", "building", "paused"] = "free"
    settings: Settings = Settings()
    asked: list[str] = Field(default_factory=list)
    """Adjustments that are on their way, in words."""
    change: str = ""
    """How far a change of filament has come: `wanted`, `unload`, `load`, `purge`; empty when there is none."""
    pauses_before: list[int] = Field(default_factory=list)
    """Layers before which hands want a pause."""
    nozzle_rests: bool = False
    position_mm: tuple[float, float, float] | None = None
    """Where the head is; None while it has not been homed."""
    waits: str = ""
    """What the machine has paused itself for and waits for a person for; resuming tells it to go on."""
    question: str = ""
    choices: list[str] = Field(default_factory=list)
    """What the machine asks of a person, and what may be answered."""
    suspect: bool = False
    """Whether the machine leaves lines without an answer."""
    watchdog: bool | None = None
    """Whether the machine turns its heaters off itself when its tender dies; None while that is not known."""
    contact: Contact = Contact()
    runs_file: bool = False
    """Whether it runs the whole file itself, so that its feed cannot be changed under way."""
    sent_share: float | None = None
    """While a file is on its way to a machine that runs it itself: how much is there."""


class Did(Wire):
    """An action took effect; `said` is what the machine answered besides."""

    text: str
    said: list[str] = Field(default_factory=list)


class LogLine(Wire):
    """One line between tender and machine. `kind`: `file` (the file's) and `own` (the tender's own) were sent; `heat`,
    `trouble` and `said` were heard; `ok` is what goes to and fro to acknowledge."""

    number: int
    at: Time
    sent: bool
    kind: Literal["file", "own", "ok", "heat", "trouble", "said"]
    text: str


class BedLevel(Wire):
    """How level a bed was: heights in mm, rows from front to back, each from left to right."""

    at: Time
    rows: list[list[float]]
    range_mm: float
    mean_mm: float
    deviation_mm: float


class Skip(Wire):
    """Objects of a running build to be left out from the next layer on."""

    objects: list[Word] = Field(min_length=1, max_length=200)


class SkipPlan(Wire):
    """What leaving objects out comes to: from which layer, what remains, and when the build would end then."""

    objects: list[str]
    remaining: list[str]
    from_layer: int
    layers: int
    remaining_s: float
    """Shop seconds to go with them left out."""
    saved_s: float
    expected_end: Time
    sha256: str
    """The edited file, for a drawing of what remains."""


class Change(Wire):
    """One thing hands changed of a build."""

    at: Time
    text: str
    by: str
