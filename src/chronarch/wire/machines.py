"""Machines, their models, tools, readings and ledger."""

from __future__ import annotations

from pydantic import Field, HttpUrl, field_validator

from chronarch.core.fleet import MachineModel
from chronarch.core.names import check_name
from chronarch.core.states import BuildState, Intake, MachineState, Outcome
from chronarch.wire.common import Label, NozzleMm, Time, Wire


class Model(Wire):
    """What machines of one make have in common; mm, mm/s, mm/s², °C."""

    name: str = Field(min_length=1, max_length=60, examples=["Lantern 220"])
    volume_mm: tuple[float, float, float] = (220, 220, 250)
    max_speed_mm_s: tuple[float, float, float] = (300, 300, 12)
    acceleration_mm_s2: float = Field(default=1500, gt=0)
    nozzle_ceiling_c: float = Field(default=275, gt=0, le=500)
    bed_ceiling_c: float = Field(default=110, ge=0, le=200)
    release_c: float = Field(default=40, ge=0, le=120)
    park_mm: tuple[float, float] = (5, 200)
    lift_mm: float = Field(default=5, ge=0)
    tools: int = Field(default=1, ge=1, le=16)

    @field_validator("volume_mm", "max_speed_mm_s")
    @classmethod
    def _positive(cls, value: tuple[float, ...]) -> tuple[float, ...]:
        if any(not 0 < v < 10_000 for v in value):
            raise ValueError("each figure must lie above 0 and below 10000")
        return value

    def core(self) -> MachineModel:
        return MachineModel(**self.model_dump())


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
