"""What machines of one make have in common."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import Field, model_validator

from chronarch.core.bounds import Figure, Mm
from chronarch.core.machines.model import HeaterFigures as CoreHeater
from chronarch.core.machines.model import MachineModel, ModelSwitch
from chronarch.core.machines.model import OwnSequence as CoreSequence
from chronarch.core.machines.model import Parameter as CoreParameter
from chronarch.wire.common import Wire


class HeaterFigures(Wire):
    """How a heater behaves: °C/s from ambient at full power, the °C it would reach in the end, and the seconds of its
    cooling."""

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
    """A value that a sequence asks for, with its bounds and its usual value."""

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
    """Lines of the shop's own under a name; `{parameter}` in them stands for the value of a parameter."""

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
    """The rule for the speed in corners: how far the path may be cut, or the step in speed that an axis may take."""
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
    """How many bytes the machine buffers ahead of its answers; 0 for one line at a time."""
    rest_after_s: float = Field(default=900, ge=0, le=86_400)
    """After this long the nozzle of a paused build may cool; 0 keeps it hot."""
    idle_off_s: float = Field(default=900, ge=0, le=86_400)
    """After this long without a build or a touch, heaters are turned off; 0 never turns them off."""
    watchdog_s: float = Field(default=1800, ge=0, le=86_400)
    """After this long without a line, the machine is to turn its heaters off itself; 0 asks for no such watchdog."""
    z_offset_mm: float = Field(default=1, ge=0, le=5)
    reversed_axes: str = Field(default="", pattern=r"^[xyzXYZ]{0,3}$")
    """Axes that move the other way round for a person in front of the machine."""
    filament_path_mm: float = Field(default=90, gt=0, le=2000)
    purge_mm: float = Field(default=30, gt=0, le=500)
    switches: tuple[SwitchLines, ...] = Field(default=(), max_length=20)
    sequences: tuple[OwnSequence, ...] = Field(default=(), max_length=50)
    releases: int = Field(default=0, ge=0, le=50)
    """How many finished parts in a row a machine may release by itself while nobody is there; 0 means that it waits for
    a person."""
    release_sequence: str = Field(default="", max_length=60)
    """The sequence of the model that releases a part, once its bed is below `release_c`."""
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
