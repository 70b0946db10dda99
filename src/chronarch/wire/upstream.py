"""What tender and service say to each other over their WebSocket; docs/protocols/tender.md tells the story."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, TypeAdapter

from chronarch.core.gcode.plan import Mark, Plan
from chronarch.core.happenings import Happening
from chronarch.core.states import MachineState
from chronarch.wire.common import GivenTime, Time, Wire
from chronarch.wire.hands import Action, Hands, LogLine
from chronarch.wire.machines import BuildBrief, Model, Reading


class WirePlan(Wire):
    """A file's time plan: marks of (commands, planned seconds, mm of filament), and where layers begin."""

    marks: list[tuple[int, float, float]]
    layers: list[int]

    @classmethod
    def of(cls, plan: Plan) -> WirePlan:
        return cls(marks=[(m.command, m.planned_s, m.filament_mm) for m in plan.marks], layers=list(plan.layers))

    def core(self) -> Plan:
        return Plan(tuple(Mark(*m) for m in self.marks), tuple(self.layers))


class BuildOrder(Wire):
    """A build as the tender gets it. `begun` tells that the service has heard of its start, `ended` of its end."""

    build: int
    sha256: str
    size: int
    file: str
    job: int
    copy_number: int
    plan: WirePlan
    pace: float = 1.0
    """What builds on this model are known to take, as a factor on the planned time."""
    begun: bool = False
    ended: bool = False
    started_at: Time | None = None


class Charge(Wire):
    """One machine in a tender's charge, as the service knows it."""

    machine: str
    link: str
    camera: str = ""
    model: Model
    state: MachineState
    reason: str = ""
    order: BuildOrder | None = None
    """Its open build, if it has one."""


class Hello(Wire):
    kind: Literal["hello"] = "hello"
    tender: str = Field(min_length=1, max_length=60)
    epoch: str = Field(min_length=1, max_length=40)
    """Names this tender's journal; a new journal has a new epoch."""
    place: str = Field(default="", max_length=300)
    """Host and process, so that a second tender of the name can be told who holds it."""


class Event(Wire):
    """One thing that happened and must not be lost; numbered from 1 within the epoch."""

    kind: Literal["event"] = "event"
    sequence: int = Field(ge=1, lt=2**62)
    machine: str
    at: GivenTime
    body: Annotated[Happening, Field(discriminator="kind")]


class Sample(Wire):
    """How a machine is right now; may be lost, the next one replaces it."""

    kind: Literal["sample"] = "sample"
    machine: str
    state: MachineState
    connected: bool
    reading: Reading | None = None
    build: BuildBrief | None = None
    resends: int = 0
    hands: Hands = Hands()


class Reply(Wire):
    """A command's answer; `problem` is empty when it took effect at the machine, `said` is what that answered."""

    kind: Literal["reply"] = "reply"
    id: str
    problem: str = ""
    late: bool = False
    """The problem is that it came too late; for a later moment it may be possible."""
    said: list[str] = Field(default_factory=list)
    log: list[LogLine] = Field(default_factory=list)


class Welcome(Wire):
    """The service's answer to hello; events up to `committed` need not be sent again."""

    kind: Literal["welcome"] = "welcome"
    committed: int
    charges: list[Charge]


class Committed(Wire):
    kind: Literal["committed"] = "committed"
    sequence: int


class Assign(Wire):
    """A machine's charge has changed: it is new, or has got a build."""

    kind: Literal["assign"] = "assign"
    charge: Charge


Deed = Literal[
    "pause",
    "pause_before",
    "no_pause_before",
    "change_filament",
    "resume",
    "stop",
    "clear",
    "take_out",
    "put_back",
    "emergency",
    "act",
    "skip",
    "log",
]


class SkipOrder(Wire):
    """A build goes on with an edited file that is the present one up to command `from_command`."""

    sha256: str
    plan: WirePlan
    from_command: int
    text: str


class LogWish(Wire):
    """Lines of a machine's log: the newest `limit` after number `after` that hold `search`."""

    after: int = 0
    limit: int = 500
    search: str = ""


class Command(Wire):
    """Something a person wants of a machine now."""

    kind: Literal["command"] = "command"
    id: str
    machine: str
    deed: Deed
    build: int | None = None
    """The build that is meant; refused when the machine has another."""
    reason: str = ""
    by: str = ""
    layer: int = 0
    action: Action | None = None
    skip: SkipOrder | None = None
    log: LogWish | None = None


FromTender = Annotated[Hello | Event | Sample | Reply, Field(discriminator="kind")]
ToTender = Annotated[Welcome | Committed | Assign | Command, Field(discriminator="kind")]

from_tender: TypeAdapter[Hello | Event | Sample | Reply] = TypeAdapter(FromTender)
to_tender: TypeAdapter[Welcome | Committed | Assign | Command] = TypeAdapter(ToTender)
