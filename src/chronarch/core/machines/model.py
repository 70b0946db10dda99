"""What machines of one make have in common: sizes, limits, heaters, and the shop's own sequences for them."""

from __future__ import annotations

from dataclasses import dataclass

AXES = ("x", "y", "z")


@dataclass(frozen=True)
class HeaterFigures:
    """How a heater behaves: how fast it rises from ambient at full power (°C/s), the temperature it would reach in the
    end (°C), and the time constant of its cooling (s)."""

    rise_c_s: float
    reach_c: float
    cooling_s: float


@dataclass(frozen=True)
class ModelSwitch:
    """Something a machine turns on and off: the lines that do it."""

    name: str
    on: str
    off: str


@dataclass(frozen=True)
class Parameter:
    """A value that a sequence asks for, with its bounds and its usual value."""

    name: str
    least: float
    most: float
    usual: float
    unit: str = ""


@dataclass(frozen=True)
class OwnSequence:
    """Lines of the shop's own under a name; `{parameter}` in them stands for the value of a parameter."""

    name: str
    lines: str
    parameters: tuple[Parameter, ...] = ()
    guarded: bool = False
    """Whether only those who may maintain machines may run it."""
    clear_bed: bool = True
    """Whether the bed must be clear for it."""


@dataclass(frozen=True)
class MachineModel:
    """What machines of one make have in common. Lengths in mm, speeds in mm/s, accelerations in mm/s²,
    temperatures in °C."""

    name: str
    volume_mm: tuple[float, float, float] = (220.0, 220.0, 250.0)
    max_speed_mm_s: tuple[float, float, float] = (300.0, 300.0, 12.0)
    max_filament_mm_s: float = 60.0
    acceleration_mm_s2: float = 1500.0
    """The acceleration of moves; `axis_acceleration_mm_s2` is the most that each axis may have."""
    axis_acceleration_mm_s2: tuple[float, float, float] = (3000.0, 3000.0, 200.0)
    retract_acceleration_mm_s2: float = 2500.0
    cornering: str = "deviation"
    """The rule for the speed in a corner: `deviation` (how far the path may be cut) or `jerk` (the step in speed that
    an axis may take)."""
    junction_deviation_mm: float = 0.02
    jerk_mm_s: tuple[float, float, float, float] = (8.0, 8.0, 0.4, 5.0)
    """x, y, z, e."""
    lookahead_moves: int = 32
    nozzle_heat: HeaterFigures = HeaterFigures(2.8, 420.0, 140.0)
    bed_heat: HeaterFigures = HeaterFigures(0.6, 210.0, 330.0)
    chamber_heat: HeaterFigures = HeaterFigures(0.05, 90.0, 1800.0)
    homing_s: float = 6.0
    levelling_s: float = 60.0
    tool_change_s: float = 12.0
    nozzle_ceiling_c: float = 275.0
    bed_ceiling_c: float = 110.0
    chamber_ceiling_c: float = 0.0
    cold_extrusion_c: float = 165.0
    """The nozzle must not push filament below this temperature."""
    release_c: float = 40.0
    """Below this bed temperature a finished part comes off, and a person may touch the bed."""
    park_mm: tuple[float, float] = (5.0, 200.0)
    lift_mm: float = 5.0
    window_bytes: int = 0
    """How many bytes the machine buffers ahead of its answers; 0 for one line at a time."""
    rest_after_s: float = 900.0
    """After this long the nozzle of a paused build may cool; 0 keeps it hot."""
    idle_off_s: float = 900.0
    """After this long without a build or a touch, heaters are turned off; 0 never turns them off."""
    watchdog_s: float = 1800.0
    """After this long without a line, the machine is to turn its heaters off itself; 0 asks for no such watchdog."""
    z_offset_mm: float = 1.0
    """How far the nozzle may be raised or lowered while building."""
    reversed_axes: str = ""
    """Axes that move the other way round for a person in front of the machine, as in `y`."""
    filament_path_mm: float = 90.0
    """The distance from where filament is put in to the nozzle."""
    purge_mm: float = 30.0
    switches: tuple[ModelSwitch, ...] = ()
    sequences: tuple[OwnSequence, ...] = ()
    releases: int = 0
    """How many finished parts in a row the machine may release by itself while nobody is there; 0 means that it waits
    for a person."""
    release_sequence: str = ""
    """The sequence of the model that releases a part once the bed is below `release_c`."""
    release_s: float = 60.0
    tools: int = 1
    start_gcode: str = ""
    """The model's own start and end; `{nozzle_c}` and `{bed_c}` stand for what the file asks. Empty means the file's
    own."""
    end_gcode: str = ""
