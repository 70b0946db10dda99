"""Machines: how they are set up, and how they are now."""

from __future__ import annotations

from typing import Annotated, Literal

from annotated_types import Len
from pydantic import Field, field_validator

from chronarch.core.bounds import Figure
from chronarch.core.control.adjustments import BuildAdjustments
from chronarch.core.control.firmware_info import FirmwareInfo
from chronarch.core.library.names import check_name
from chronarch.core.machines.address import parse_address
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import BuildState, Intake, MachineState, Outcome
from chronarch.core.machines.tools import Tool
from chronarch.wire.common import GivenTime, Label, Tags, Time, Wire, as_is
from chronarch.wire.machines.power import Power

as_is(BuildAdjustments, FirmwareInfo, Tool)


def _in_order(tools: list[Tool] | None) -> list[Tool] | None:
    numbers = [tool.number for tool in tools or ()]
    twice = next((n for n in numbers if numbers.count(n) > 1), None)
    if twice is not None:
        raise ValueError(f"tool {twice} is there more than once")
    return sorted(tools, key=lambda tool: tool.number) if tools else tools


class NewMachine(Wire):
    """A machine to be added."""

    name: str = Field(min_length=1, max_length=60, examples=["Anchor"])
    model: str = Field(max_length=60, examples=["Lantern 220"])
    link: str = Field(
        max_length=300, examples=["tcp://127.0.0.1:7101", "serial:///dev/serial/by-id/usb-lantern-07?speed=115200"]
    )
    intake: Intake = Intake.OPEN
    tools: list[Tool] = Field(default_factory=lambda: [Tool()], min_length=1, max_length=16)
    site: Label = ""
    place: str = Field(default="", max_length=40, examples=["A2"])
    pools: Tags = Field(default_factory=list)
    tags: Tags = Field(default_factory=list)

    _tools = field_validator("tools")(_in_order)

    @field_validator("name")
    @classmethod
    def _name(cls, value: str) -> str:
        return check_name(value)

    @field_validator("link")
    @classmethod
    def _link(cls, value: str) -> str:
        return parse_address(value).text


class MachineChange(Wire):
    """What may be changed of a machine; what is left out stays."""

    link: str | None = Field(default=None, max_length=300)
    """Another address, while no build is on it."""
    model: str | None = Field(default=None, max_length=60)
    """Another model, while no build is on it."""
    intake: Intake | None = None
    tools: list[Tool] | None = Field(default=None, min_length=1, max_length=16)
    site: Label | None = None
    place: str | None = Field(default=None, max_length=40)
    pools: Tags | None = None
    tags: Tags | None = None
    reversed_axes: Annotated[str, Field(pattern="^[xyz]{0,3}$")] | None = None
    """Axes that move the other way round for a person in front of it, whatever its model says."""

    _tools = field_validator("tools")(_in_order)

    @field_validator("link")
    @classmethod
    def _link(cls, value: str | None) -> str | None:
        return value if value is None else parse_address(value).text


class MachineControls(Wire):
    """What can be done at a machine by hand now, and which changes are still on their way."""

    moment: Literal["free", "building", "paused"] = "free"
    settings: BuildAdjustments = BuildAdjustments()
    asked: list[str] = Field(default_factory=list)
    """Adjustments that are on their way, in words."""
    change: str = ""
    """How far a filament change has come: `wanted`, `unload`, `load`, `purge`; empty when there is none."""
    pauses_before: list[int] = Field(default_factory=list)
    """Layers before which a person wants a pause."""
    nozzle_rests: bool = False
    position_mm: tuple[float, float, float] | None = None
    """Where the head is; None while it has not been homed."""
    head_mm: tuple[float, float, float] | None = None
    """Where the head was when the machine last told, though somebody may have pushed it since."""
    waits: str = ""
    """What the machine has paused itself for and waits for a person for. Resuming tells it to go on."""
    question: str = ""
    choices: list[str] = Field(default_factory=list)
    """What the machine asks of a person, and the possible answers."""
    suspect: bool = False
    """Whether the machine leaves lines without an answer."""
    watchdog: bool | None = None
    """Whether the machine turns its heaters off itself when its tender dies; None while that is unknown."""
    contact: FirmwareInfo = FirmwareInfo()
    runs_file: bool = False
    """Whether it runs the whole file itself, so that its feed cannot be changed under way."""
    sent_share: float | None = None
    """While a file is being sent to a machine that runs it itself: the share that is there."""


class HeaterReading(Wire):
    """Measured and target temperature, °C."""

    measured_c: Figure | None = None
    asked_c: Figure | None = None


class Reading(Wire):
    """What a machine measures now."""

    at: GivenTime
    nozzle: HeaterReading = HeaterReading()
    bed: HeaterReading = HeaterReading()
    chamber: HeaterReading = HeaterReading()
    further: Annotated[dict[Annotated[str, Len(1, 20)], HeaterReading], Len(0, 12)] = Field(default_factory=dict)
    """What else the machine measures, by the sensor's name; the hot ends of one that has several are T0, T1, ..."""
    fan_pct: Figure | None = None
    """The part fan, as it was last told; None while that is not known."""


class BuildBrief(Wire):
    """The build on a machine, as far as its row on the board needs it. Times are shop time, seconds are shop
    seconds."""

    id: int
    file: str
    job: int
    copy_number: int
    state: BuildState
    outcome: Outcome | None = None
    reason: str = ""
    started_at: Time | None = None
    progress: float = 0.0
    """0 to 1, by planned time of the lines the machine has acknowledged."""
    layer: int = 0
    layers: int = 0
    acknowledged: int = 0
    commands: int = 0
    elapsed_s: float = 0.0
    remaining_s: float | None = None
    expected_end: Time | None = None
    pace: float = 1.0
    """Real seconds for each planned second, as measured so far."""
    words: str = Field(default="", max_length=300)
    """What the file last had the machine show."""


class Machine(Wire):
    """One machine, as it is now."""

    name: str
    model: str
    state: MachineState
    since: Time
    reason: str = ""
    held: str = ""
    """Why it takes no work yet though it is idle, in words that follow its name."""
    intake: Intake
    tools: list[Tool]
    reachable: bool
    """Whether its tender is connected. If not, everything else is as last heard."""
    reading: Reading | None = None
    build: BuildBrief | None = None
    camera: str = ""
    """The camera that stands for it; empty without one."""
    frame_at: Time | None = None
    """When the newest frame of that camera was taken; None without one."""
    photo: str = ""
    """Which photo of it there is, so that another one has another address; empty without one."""
    hands: MachineControls = MachineControls()
    power: Power | None = None
    """What its plug says; None without one."""
    site: str = ""
    place: str = ""
    pools: list[str] = Field(default_factory=list)
    tags: list[str] = Field(default_factory=list)


class MachineDetail(Machine):
    link: str
    model_detail: MachineModel
    resends: int = 0


class OutOfWork(Wire):
    reason: Label = Field(default="", examples=["new belt"])
