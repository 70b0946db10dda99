"""What machines of one make have in common: sizes, limits, heaters, and the shop's own sequences for them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Annotated, Literal

from annotated_types import Interval, Len

from chronarch.core.bounds import Figure, Mm

AXES = ("x", "y", "z")
WIDEST_DISPLAY = 80
"""Characters."""
Speed = Annotated[float, Interval(gt=0, lt=10_000)]
Acceleration = Annotated[float, Interval(gt=0, lt=1_000_000)]
Seconds = Annotated[float, Interval(ge=0, le=86_400)]
Lines = Annotated[str, Len(1, 400)]


@dataclass(frozen=True)
class HeaterFigures:
    """How a heater behaves: how fast it rises from ambient at full power (°C/s), the temperature it would reach in the
    end (°C), and the time constant of its cooling (s)."""

    rise_c_s: Annotated[float, Interval(gt=0, le=100)]
    reach_c: Annotated[float, Interval(gt=30, le=2000)]
    cooling_s: Annotated[float, Interval(gt=0, le=100_000)]


@dataclass(frozen=True)
class SwitchLines:
    """Something a machine turns on and off: the lines that do it."""

    name: Annotated[str, Len(1, 40)]
    on: Lines
    off: Lines


@dataclass(frozen=True)
class Parameter:
    """A value that a sequence asks for, with its bounds and its usual value."""

    name: Annotated[str, Len(1, 30)]
    least: Figure
    most: Figure
    usual: Figure
    unit: Annotated[str, Len(0, 10)] = ""

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[a-z][a-z0-9_]*", self.name):
            raise ValueError(f"a parameter's name has small letters, digits and _ only; {self.name!r} has others")
        if not self.least <= self.usual <= self.most:
            raise ValueError("a parameter's usual value must lie within its bounds")


@dataclass(frozen=True)
class OwnSequence:
    """Lines of the shop's own under a name; `{parameter}` in them stands for the value of a parameter."""

    name: Annotated[str, Len(1, 60)]
    lines: Annotated[str, Len(1, 4000)]
    parameters: Annotated[tuple[Parameter, ...], Len(0, 12)] = ()
    guarded: bool = False
    """Whether only those who may maintain machines may run it."""
    clear_bed: bool = True
    """Whether the bed must be clear for it."""

    def __post_init__(self) -> None:
        missing = set(re.findall(r"\{([^}]*)\}", self.lines)) - {p.name for p in self.parameters}
        if missing:
            raise ValueError(f"the lines name {{{', '.join(sorted(missing))}}}, which is not among the parameters")


@dataclass(frozen=True)
class MachineModel:
    """What machines of one make have in common. Lengths in mm, speeds in mm/s, accelerations in mm/s²,
    temperatures in °C."""

    name: Annotated[str, Len(1, 60)]
    volume_mm: tuple[Speed, Speed, Speed] = (220.0, 220.0, 250.0)
    max_speed_mm_s: tuple[Speed, Speed, Speed] = (300.0, 300.0, 12.0)
    max_filament_mm_s: Speed = 60.0
    acceleration_mm_s2: Acceleration = 1500.0
    """The acceleration of moves; `axis_acceleration_mm_s2` is the most that each axis may have."""
    axis_acceleration_mm_s2: tuple[Acceleration, Acceleration, Acceleration] = (3000.0, 3000.0, 200.0)
    retract_acceleration_mm_s2: Acceleration = 2500.0
    cornering: Literal["deviation", "jerk"] = "deviation"
    """The rule for the speed in a corner: `deviation` (how far the path may be cut) or `jerk` (the step in speed that
    an axis may take)."""
    junction_deviation_mm: Annotated[float, Interval(gt=0, le=1)] = 0.02
    jerk_mm_s: tuple[Speed, Speed, Speed, Speed] = (8.0, 8.0, 0.4, 5.0)
    """x, y, z, e."""
    lookahead_moves: Annotated[int, Interval(ge=2, le=1024)] = 32
    nozzle_heat: HeaterFigures = HeaterFigures(2.8, 420.0, 140.0)
    bed_heat: HeaterFigures = HeaterFigures(0.6, 210.0, 330.0)
    chamber_heat: HeaterFigures = HeaterFigures(0.05, 90.0, 1800.0)
    homing_s: Annotated[float, Interval(ge=0, le=600)] = 6.0
    levelling_s: Annotated[float, Interval(ge=0, le=3600)] = 60.0
    tool_change_s: Annotated[float, Interval(ge=0, le=600)] = 12.0
    nozzle_ceiling_c: Annotated[float, Interval(gt=0, le=500)] = 275.0
    bed_ceiling_c: Annotated[float, Interval(ge=0, le=200)] = 110.0
    chamber_ceiling_c: Annotated[float, Interval(ge=0, le=150)] = 0.0
    cold_extrusion_c: Annotated[float, Interval(ge=0, le=400)] = 165.0
    """The nozzle must not push filament below this temperature."""
    release_c: Annotated[float, Interval(ge=0, le=120)] = 40.0
    """Below this bed temperature a finished part comes off, and a person may touch the bed."""
    park_mm: tuple[Mm, Mm] = (5.0, 200.0)
    lift_mm: Annotated[float, Interval(ge=0, le=1000)] = 5.0
    window_bytes: Annotated[int, Interval(ge=0, le=65536)] = 0
    """How many bytes the machine buffers ahead of its answers; 0 for one line at a time."""
    rest_after_s: Seconds = 900.0
    """After this long the nozzle of a paused build may cool; 0 keeps it hot."""
    idle_off_s: Seconds = 900.0
    """After this long without a build or a touch, heaters are turned off; 0 never turns them off."""
    watchdog_s: Seconds = 1800.0
    """After this long without a line, the machine is to turn its heaters off itself; 0 asks for no such watchdog."""
    z_offset_mm: Annotated[float, Interval(ge=0, le=5)] = 1.0
    """How far the nozzle may be raised or lowered while building."""
    reversed_axes: Annotated[str, Len(0, 3)] = ""
    """Axes that move the other way round for a person in front of the machine, as in `y`."""
    filament_path_mm: Annotated[float, Interval(gt=0, le=2000)] = 90.0
    """The distance from where filament is put in to the nozzle."""
    purge_mm: Annotated[float, Interval(gt=0, le=500)] = 30.0
    switches: Annotated[tuple[SwitchLines, ...], Len(0, 20)] = ()
    display_chars: Annotated[int, Interval(ge=0, le=WIDEST_DISPLAY)] = 20
    """How many characters its own display has for what hands must do next; 0 for a machine that shows no words
    (M117)."""
    hands_light: Annotated[str, Len(0, 40)] = ""
    """The switch of the model that is on while hands must do something at the machine; empty without one."""
    sequences: Annotated[tuple[OwnSequence, ...], Len(0, 50)] = ()
    releases: Annotated[int, Interval(ge=0, le=50)] = 0
    """How many finished parts in a row the machine may release by itself while nobody is there; 0 means that it waits
    for a person."""
    release_sequence: Annotated[str, Len(0, 60)] = ""
    """The sequence of the model that releases a part once the bed is below `release_c`."""
    release_s: Annotated[float, Interval(ge=0, le=3600)] = 60.0
    tools: Annotated[int, Interval(ge=1, le=16)] = 1
    start_gcode: Annotated[str, Len(0, 20_000)] = ""
    """The model's own start and end; `{nozzle_c}` and `{bed_c}` stand for what the file asks. Empty means the file's
    own."""
    end_gcode: Annotated[str, Len(0, 20_000)] = ""

    def __post_init__(self) -> None:
        if self.hands_light and self.hands_light not in {switch.name for switch in self.switches}:
            raise ValueError(f"hands_light is one of the model's switches; {self.hands_light!r} is none of them")
        if not set(self.reversed_axes.lower()) <= set(AXES):
            raise ValueError(f"reversed_axes are some of x, y and z; {self.reversed_axes!r} has others")
