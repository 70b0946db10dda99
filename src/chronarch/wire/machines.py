"""Machines, their models, tools, readings and ledger."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import Field, HttpUrl, field_validator, model_validator

from chronarch.core.address import parse_address
from chronarch.core.bounds import Figure, Mm, Number
from chronarch.core.fleet import HeaterFigures as CoreHeater
from chronarch.core.fleet import MachineModel, ModelSwitch
from chronarch.core.fleet import OwnSequence as CoreSequence
from chronarch.core.fleet import Parameter as CoreParameter
from chronarch.core.names import check_name
from chronarch.core.states import BuildState, Intake, MachineState, Outcome
from chronarch.wire.common import GivenTime, Label, NozzleMm, Tags, Time, Wire
from chronarch.wire.hands import Hands


class HeaterFigures(Wire):
    """How a heater behaves: °C/s from ambient at full power, the °C it would reach in the end, s of cooling."""

    rise_c_s: float = Field(gt=0, le=100)
    reach_c: float = Field(gt=30, le=2000)
    cooling_s: float = Field(gt=0, le=100_000)


Speed = Annotated[float, Field(gt=0, lt=10_000)]
Acceleration = Annotated[float, Field(gt=0, lt=1_000_000)]


class SwitchLines(Wire):
    """Something a machine turns on and off: the lines that do it."""

    name: str = Field(min_length=1, max_length=40, examples=["light"])
    on: str = Field(min_length=1, max_length=400, examples=["M355 S1"])
    off: str = Field(min_length=1, max_length=400, examples=["M355 S0"])


class Parameter(Wire):
    """A value a sequence asks for, with its bounds and what it usually is."""

    name: str = Field(pattern=r"^[a-z][a-z0-9_]{0,29}$", examples=["reach"])
    least: Figure
    most: Figure
    usual: Figure
    unit: str = Field(default="", max_length=10)

    @model_validator(mode="after")
    def _bounds(self) -> Parameter:
        if not self.least <= self.usual <= self.most:
            raise ValueError("a parameter's usual value must lie within its bounds")
        return self


class OwnSequence(Wire):
    """Lines of the shop's own under a name; `{parameter}` in them stands for its value."""

    name: str = Field(min_length=1, max_length=60, examples=["clean nozzle"])
    lines: str = Field(min_length=1, max_length=4000)
    parameters: tuple[Parameter, ...] = Field(default=(), max_length=12)
    guarded: bool = False
    """Whether only those who may maintain machines may run it."""
    clear_bed: bool = True
    """Whether the bed must be clear for it."""

    @model_validator(mode="after")
    def _known(self) -> OwnSequence:
        wanted = set(re.findall(r"\{([^}]*)\}", self.lines))
        missing = wanted - {p.name for p in self.parameters}
        if missing:
            raise ValueError(f"the lines name {{{', '.join(sorted(missing))}}}, which is not among the parameters")
        return self


class Model(Wire):
    """What machines of one make have in common; mm, mm/s, mm/s², °C, s."""

    name: str = Field(min_length=1, max_length=60, examples=["Lantern 220"])
    volume_mm: tuple[Speed, Speed, Speed] = (220, 220, 250)
    max_speed_mm_s: tuple[Speed, Speed, Speed] = (300, 300, 12)
    max_filament_mm_s: Speed = 60
    acceleration_mm_s2: Acceleration = 1500
    axis_acceleration_mm_s2: tuple[Acceleration, Acceleration, Acceleration] = (3000, 3000, 200)
    retract_acceleration_mm_s2: Acceleration = 2500
    cornering: Literal["deviation", "jerk"] = "deviation"
    """The rule for speed in corners: how far the path may be cut, or the step in speed an axis may take."""
    junction_deviation_mm: float = Field(default=0.02, gt=0, le=1)
    jerk_mm_s: tuple[Speed, Speed, Speed, Speed] = (8, 8, 0.4, 5)
    lookahead_moves: int = Field(default=32, ge=2, le=1024)
    nozzle_heat: HeaterFigures = HeaterFigures(rise_c_s=2.8, reach_c=420, cooling_s=140)
    bed_heat: HeaterFigures = HeaterFigures(rise_c_s=0.6, reach_c=210, cooling_s=330)
    chamber_heat: HeaterFigures = HeaterFigures(rise_c_s=0.05, reach_c=90, cooling_s=1800)
    homing_s: float = Field(default=6, ge=0, le=600)
    levelling_s: float = Field(default=60, ge=0, le=3600)
    tool_change_s: float = Field(default=12, ge=0, le=600)
    nozzle_ceiling_c: float = Field(default=275, gt=0, le=500)
    bed_ceiling_c: float = Field(default=110, ge=0, le=200)
    chamber_ceiling_c: float = Field(default=0, ge=0, le=150)
    cold_extrusion_c: float = Field(default=165, ge=0, le=400)
    release_c: float = Field(default=40, ge=0, le=120)
    park_mm: tuple[Mm, Mm] = (5, 200)
    lift_mm: float = Field(default=5, ge=0, le=1000)
    window_bytes: int = Field(default=0, ge=0, le=65536)
    """How much the machine takes in ahead of its answers; 0 for one line at a time."""
    rest_after_s: float = Field(default=900, ge=0, le=86_400)
    """A paused build's nozzle is let cool after this long; 0 keeps it hot."""
    idle_off_s: float = Field(default=900, ge=0, le=86_400)
    """Heaters that nobody has touched for so long while no build runs are turned off; 0 never."""
    watchdog_s: float = Field(default=1800, ge=0, le=86_400)
    """The machine's own watch over its heaters is asked to turn them off after so long without a line; 0 asks for
    none."""
    z_offset_mm: float = Field(default=1, ge=0, le=5)
    reversed_axes: str = Field(default="", pattern=r"^[xyzXYZ]{0,3}$")
    """Axes whose steps go the other way round for whoever stands before the machine."""
    filament_path_mm: float = Field(default=90, gt=0, le=2000)
    purge_mm: float = Field(default=30, gt=0, le=500)
    switches: tuple[SwitchLines, ...] = Field(default=(), max_length=20)
    sequences: tuple[OwnSequence, ...] = Field(default=(), max_length=50)
    releases: int = Field(default=0, ge=0, le=50)
    """How many finished parts in a row a machine may let go of by itself with nobody there; 0: it waits for hands."""
    release_sequence: str = Field(default="", max_length=60)
    """The model's own sequence that makes it let go of a part, once its bed is below `release_c`."""
    release_s: float = Field(default=60, ge=0, le=3600)
    tools: int = Field(default=1, ge=1, le=16)
    start_gcode: str = Field(default="", max_length=20_000)
    end_gcode: str = Field(default="", max_length=20_000)

    def core(self) -> MachineModel:
        figures = self.model_dump()
        for heater in ("nozzle_heat", "bed_heat", "chamber_heat"):
            figures[heater] = CoreHeater(**figures[heater])
        figures["switches"] = tuple(ModelSwitch(**s) for s in figures["switches"])
        figures["sequences"] = tuple(
            CoreSequence(**{**s, "parameters": tuple(CoreParameter(**p) for p in s["parameters"])})
            for s in figures["sequences"]
        )
        return MachineModel(**figures)


class Tool(Wire):
    """One extruder: its nozzle and what is loaded on it."""

    number: int = Field(default=0, ge=0, le=15)
    nozzle_mm: NozzleMm = 0.4
    hardened: bool = False
    material: Label = ""
    colour: Label = ""
    spool: Number | None = None
    """The spool that is loaded, where the shop counts them."""
    grams: Figure | None = None
    """What is left on it; read only."""


def _in_order(tools: list[Tool] | None) -> list[Tool] | None:
    numbers = [tool.number for tool in tools or ()]
    twice = next((n for n in numbers if numbers.count(n) > 1), None)
    if twice is not None:
        raise ValueError(f"tool {twice} is there more than once")
    return sorted(tools, key=lambda tool: tool.number) if tools else tools


class MachineOrder(Wire):
    """A machine to be added."""

    name: str = Field(min_length=1, max_length=60, examples=["Anchor"])
    model: str = Field(max_length=60, examples=["Lantern 220"])
    link: str = Field(
        max_length=300, examples=["tcp://127.0.0.1:7101", "serial:///dev/serial/by-id/usb-lantern-07?speed=115200"]
    )
    camera: HttpUrl | None = None
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

    intake: Intake | None = None
    tools: list[Tool] | None = Field(default=None, min_length=1, max_length=16)
    site: Label | None = None
    place: str | None = Field(default=None, max_length=40)
    pools: Tags | None = None
    tags: Tags | None = None

    _tools = field_validator("tools")(_in_order)


class Heater(Wire):
    """Measured and asked, °C."""

    measured_c: Figure | None = None
    asked_c: Figure | None = None


class Reading(Wire):
    """What a machine measures now."""

    at: GivenTime
    nozzle: Heater = Heater()
    bed: Heater = Heater()
    chamber: Heater = Heater()


class BuildBrief(Wire):
    """The build a machine has, as far as its row on the board needs it. Times are shop time, seconds shop seconds."""

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
    """Real seconds a planned second takes, as measured so far."""


class Machine(Wire):
    """One machine, as it is now."""

    name: str
    model: str
    state: MachineState
    since: Time
    reason: str = ""
    intake: Intake
    tools: list[Tool]
    reachable: bool
    """Whether its tender is connected; if not, all else is as last heard."""
    reading: Reading | None = None
    build: BuildBrief | None = None
    frame_at: Time | None = None
    """When its newest camera frame was taken; None without one."""
    hands: Hands = Hands()
    site: str = ""
    place: str = ""
    pools: list[str] = Field(default_factory=list)
    tags: list[str] = Field(default_factory=list)


class MachineDetail(Machine):
    link: str
    camera: str
    model_detail: Model
    resends: int = 0


class LedgerEntry(Wire):
    """One machine in one state; `end` is None while it lasts."""

    machine: str
    state: MachineState
    begin: Time
    end: Time | None
    build: int | None = None


class OutOfWork(Wire):
    reason: Label = Field(default="", examples=["new belt"])
