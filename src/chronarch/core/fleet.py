"""What a model of machine can do, and what one machine has loaded."""

from __future__ import annotations

from dataclasses import dataclass, field

AXES = ("x", "y", "z")


@dataclass(frozen=True)
class HeaterFigures:
    """How a heater behaves: °C/s it rises with from ambient at full power, the temperature (°C) it would reach in the
    end, and the time constant (s) it cools with."""

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
    """A value a sequence asks for, with its bounds and what it usually is."""

    name: str
    least: float
    most: float
    usual: float
    unit: str = ""


@dataclass(frozen=True)
class OwnSequence:
    """Lines of the shop's own under a name; `{parameter}` in them stands for its value."""

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
    """What a move is given; `axis_acceleration_mm_s2` is the most each axis may have."""
    axis_acceleration_mm_s2: tuple[float, float, float] = (3000.0, 3000.0, 200.0)
    retract_acceleration_mm_s2: float = 2500.0
    cornering: str = "deviation"
    """The rule for speed in a corner: `deviation` (how far the path may be cut) or `jerk` (a step in speed an axis
    may take)."""
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
    """Below this the nozzle must not push filament."""
    release_c: float = 40.0
    """The bed temperature below which a finished part lets go and hands may touch it."""
    park_mm: tuple[float, float] = (5.0, 200.0)
    lift_mm: float = 5.0
    window_bytes: int = 0
    """How much the machine takes in ahead of its answers; 0 for one line at a time."""
    rest_after_s: float = 900.0
    """A paused build's nozzle is let cool after this long; 0 keeps it hot."""
    idle_off_s: float = 900.0
    """Heaters that nobody has touched for so long while no build runs are turned off; 0 never."""
    watchdog_s: float = 1800.0
    """The machine's own watch over its heaters is asked to turn them off after so long without a line; 0 asks for
    none."""
    z_offset_mm: float = 1.0
    """How far the nozzle may be raised or lowered while building."""
    reversed_axes: str = ""
    """Axes whose steps go the other way round for whoever stands before the machine, as in `y`."""
    filament_path_mm: float = 90.0
    """From where filament is put in to the nozzle."""
    purge_mm: float = 30.0
    switches: tuple[ModelSwitch, ...] = ()
    sequences: tuple[OwnSequence, ...] = ()
    releases: int = 0
    """How many finished parts in a row the machine may let go of by itself with nobody there; 0: it waits for hands."""
    release_sequence: str = ""
    """The model's sequence that makes a machine let go of a part, once the bed is below `release_c`."""
    release_s: float = 60.0
    tools: int = 1
    start_gcode: str = ""
    """The model's own start and end; `{nozzle_c}` and `{bed_c}` stand for what the file asks. Empty: the file's."""
    end_gcode: str = ""


@dataclass(frozen=True)
class Tool:
    """One extruder as it is now: its nozzle and what is loaded on it. Empty texts: nothing loaded."""

    number: int
    nozzle_mm: float
    hardened: bool = False
    material: str = ""
    colour: str = ""
    spool: int | None = None
    """The number of the spool that is loaded, where the shop counts them."""
    grams: float | None = None
    """What is left on it."""


@dataclass(frozen=True)
class Material:
    """What is printed with: density in g/cm³, usual temperatures in °C, filament diameter in mm."""

    name: str
    density_g_cm3: float
    nozzle_c: float = 205.0
    bed_c: float = 60.0
    diameter_mm: float = 1.75

    def grams(self, filament_mm: float) -> float:
        """The mass of a length of filament: pi/4 d² x length x density, with 1 cm³ = 1000 mm³."""
        return 3.141592653589793 / 4 * self.diameter_mm**2 * filament_mm * self.density_g_cm3 / 1000


MATERIALS = {
    m.name: m
    for m in (
        Material("PLA", 1.24, 205, 60),
        Material("PETG", 1.27, 235, 80),
        Material("ABS", 1.04, 245, 100),
        Material("ASA", 1.07, 250, 100),
        Material("TPU", 1.21, 225, 45),
        Material("PA", 1.14, 255, 80),
        Material("PC", 1.20, 270, 105),
    )
}
"""Typical densities and temperatures, as filament data sheets give them."""


def grams(material: str, filament_mm: float) -> float:
    """Grams of `filament_mm` of a material by name; a material not known is taken for PLA's density."""
    return MATERIALS.get(material.upper(), MATERIALS["PLA"]).grams(filament_mm)


@dataclass(frozen=True)
class Requirement:
    """What a job needs. An empty text or None means any."""

    material: str = ""
    colour: str = ""
    nozzle_mm: float | None = None
    hardened: bool = False
    machine: str = ""
    model: str = ""
    pool: str = ""
    tags: str = ""
    """An expression, as core/tags reads it."""
    volume_mm: tuple[float, float, float] | None = None
    """The build volume it wants at least."""


@dataclass(frozen=True)
class Capability:
    """What one machine has now."""

    machine: str
    model: MachineModel
    tools: tuple[Tool, ...] = field(default_factory=tuple)
    pools: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
