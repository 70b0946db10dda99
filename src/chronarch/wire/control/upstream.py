"""What tender and service say to each other over their WebSocket; docs/protocols/tender.md explains it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, TypeAdapter

from chronarch.core.control.events import ControlEvent
from chronarch.core.control.film_taking import FilmTaking, HeadAway
from chronarch.core.machines.materials import Material
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState
from chronarch.wire.common import GivenTime, Time, Wire, as_is
from chronarch.wire.control.actions import LogLine
from chronarch.wire.control.commands import MachineCommand
from chronarch.wire.gcode import WirePlan
from chronarch.wire.machines.finding import Look, Looked
from chronarch.wire.machines.machine import BuildBrief, MachineControls, Reading
from chronarch.wire.machines.power import PlugSetup, Power

as_is(FilmTaking, HeadAway, Material)


class OpenBuild(Wire):
    """A build as the tender gets it. `begun` and `ended` say what the service has heard of it."""

    build: int
    sha256: str
    size: int
    file: str
    job: int
    copy_number: int
    plan: WirePlan
    pace: float = 1.0
    """The learned pace of builds on this model, as a factor on the planned time."""
    begun: bool = False
    ended: bool = False
    started_at: Time | None = None
    film: FilmTaking | None = None
    """What is to be done for the film of it, beside keeping a frame of each layer."""


class MachineConfig(Wire):
    """One machine of a tender, as the service knows it."""

    machine: str
    link: str
    model: MachineModel
    state: MachineState
    reason: str = ""
    order: OpenBuild | None = None
    """Its open build, if it has one."""
    strange_build: int | None = None
    """A build on its bed that the service does not know: it goes on, and its bed is not clear, until that is said."""
    plug: PlugSetup | None = None
    """The plug that it hangs on, if it has one."""
    materials: list[Material] = Field(default_factory=list)
    """The shop's own materials, beside the usual ones."""


class Hello(Wire):
    kind: Literal["hello"] = "hello"
    tender: str = Field(min_length=1, max_length=60)
    epoch: str = Field(min_length=1, max_length=40)
    """Names this tender's journal; a new journal has a new epoch."""
    place: str = Field(default="", max_length=300)
    """Host and process, so that a second tender of this name can be told who has it."""


class Event(Wire):
    """One thing that happened and must not be lost; numbered from 1 within the epoch."""

    kind: Literal["event"] = "event"
    sequence: int = Field(ge=1, lt=2**62)
    machine: str
    at: GivenTime
    body: Annotated[ControlEvent, Field(discriminator="kind")]


class Sample(Wire):
    """How a machine is right now. A sample may be lost; the next one replaces it."""

    kind: Literal["sample"] = "sample"
    machine: str
    state: MachineState
    connected: bool
    reading: Reading | None = None
    build: BuildBrief | None = None
    resends: int = 0
    hands: MachineControls = MachineControls()
    power: Power | None = None


class Reply(Wire):
    """The answer to a command. `problem` is empty when it took effect at the machine; `said` is what the machine
    answered."""

    kind: Literal["reply"] = "reply"
    id: str = ""
    """Of the command."""
    problem: str = ""
    late: bool = False
    """The command came too late; for a later moment it may be possible."""
    said: list[str] = Field(default_factory=list)
    log: list[LogLine] = Field(default_factory=list)


class Welcome(Wire):
    """The service's answer to hello; events up to `committed` need not be sent again. Machines of the roll call are in
    doubt, because the records were restored: the tender tells how each stands, with the number given here, and does
    nothing that their configs say before it is told again."""

    kind: Literal["welcome"] = "welcome"
    committed: int
    configs: list[MachineConfig]
    roll_call: dict[str, int] = Field(default_factory=dict)


class Committed(Wire):
    kind: Literal["committed"] = "committed"
    sequence: int


class Assign(Wire):
    """A machine is new, is set up differently, or has got a build."""

    kind: Literal["assign"] = "assign"
    config: MachineConfig


class Command(Wire):
    """Something that a machine is to do now; `by` is who wants it."""

    kind: Literal["command"] = "command"
    id: str
    machine: str
    by: str = ""
    body: MachineCommand


class Seek(Wire):
    """Look for machines that are not set up yet, or say something to one."""

    kind: Literal["seek"] = "seek"
    id: str
    look: Look


class Sought(Wire):
    """What came of it."""

    kind: Literal["sought"] = "sought"
    id: str
    """Of the wish."""
    looked: Looked


FromTender = Annotated[Hello | Event | Sample | Reply | Sought, Field(discriminator="kind")]
ToTender = Annotated[Welcome | Committed | Assign | Command | Seek, Field(discriminator="kind")]

from_tender: TypeAdapter[Hello | Event | Sample | Reply | Sought] = TypeAdapter(FromTender)
to_tender: TypeAdapter[Welcome | Committed | Assign | Command | Seek] = TypeAdapter(ToTender)
