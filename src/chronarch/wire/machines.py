"""Machines, their models, tools, readings and ledger."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, HttpUrl, field_validator

from chronarch.core.fleet import HeaterFigures as CoreHeater
from chronarch.core.fleet import MachineModel
from chronarch.core.names import check_name
from chronarch.core.states import BuildState, Intake, MachineState, Outcome
from chronarch.wire.common import Label, NozzleMm, Time, Wire


class HeaterFigures(Wire):
    """How a heater behaves: °C/s from ambient at full power, the °C it would reach in the end, s of cooling."""

    rise_c_s: float = Field(gt=0, le=100)
    reach_c: float = Field(gt=30, le=2000)
    cooling_s: float = Field(gt=0, le=100_000)


Speed = Annotated[float, Field(gt=0, lt=10_000)]
Acceleration = Annotated[float, Field(gt=0, lt=1_000_000)]


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
    park_mm: tuple[float, float] = (5, 200)
    lift_mm: float = Field(default=5, ge=0)
    tools: int = Field(default=1, ge=1, le=16)
    start_gcode: str = Field(default="", max_length=20_000)
    end_gcode: str = Field(default="", max_length=20_000)

    def core(self) -> MachineModel:
        figures = self.model_dump()
        for heater in ("nozzle_heat", "bed_heat", "chamber_heat"):
            figures[heater] = CoreHeater(**figures[heater])
        return MachineModel(**figures)


class Tool(Wire):
    """One extruder: its nozzle and what is loaded on it."""

    number: int = Field(default=0, ge=0, le=15)
    nozzle_mm: NozzleMm = 0.4
    hardened: bool = False
    material: Label = ""
    colour: Label = ""


class MachineOrder(Wire):
    """A machine to be added."""

    name: str = Field(min_length=1, max_length=60, examples=["Anchor"])
    model: str = Field(examples=["Lantern 220"])
    link: str = Field(pattern=r"^tcp://[A-Za-z0-9.\-]+:\d{1,5}$", examples=["tcp://127.0.0.1:7101"])
    camera: HttpUrl | None = None
    intake: Intake = Intake.OPEN
    tools: list[Tool] = Field(default_factory=lambda: [Tool()], min_length=1, max_length=16)

    @field_validator("name")
    @classmethod
    def _name(cls, value: str) -> str:
        return check_name(value)


class MachineChange(Wire):
    """What may be changed of a machine; what is left out stays."""

    intake: Intake | None = None
    tools: list[Tool] | None = Field(default=None, min_length=1, max_length=16)


class Heater(Wire):
    """Measured and asked, °C."""

    measured_c: float | None = None
    asked_c: float | None = None


class Reading(Wire):
    """What a machine measures now."""

    at: Time
    nozzle: Heater = Heater()
    bed: Heater = Heater()


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
