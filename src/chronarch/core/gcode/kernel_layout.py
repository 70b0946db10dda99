"""Where each figure of a reading's state lies in the two arrays the kernel works on.

Two flat arrays instead of an object: a copy of both at the start of a layer is all that is needed to read on from
there, which is how one layer of a large file is drawn without reading the file again.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from chronarch.core.gcode.rules import (  # noqa: F401  the kernel finds all its figures here
    R_BED,
    R_CHAMBER,
    R_COLD,
    R_INCHES,
    R_LAID,
    R_NOZZLE,
    R_UNHOMED,
    R_WENT,
    RULES,
)
from chronarch.core.machines.model import MachineModel

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bytes = npt.NDArray[np.uint8]

TOOLS = 16
AMBIENT_C = 22.0

# float state ----------------------------------------------------------------------------------------------------
X, Y, Z, E = 0, 1, 2, 3
"""Position in the file's own coordinates, mm."""
OFFSET = 4
"""Three figures: machine position minus position, as G92 leaves it, mm."""
FEED, UNIT, SPEED, FLOW, E_MM = 7, 8, 9, 10, 11
"""mm/s; mm a unit; M220 and M221 as factors; mm of filament a mm of E (other than 1 when E is a volume)."""
ACC_PRINT, ACC_TRAVEL, ACC_RETRACT = 12, 13, 14
ACC_AXIS, MAX_AXIS, JERK = 15, 19, 23
"""Four figures each: x, y, z, e."""
DEVIATION = 27
DIRECTION = 28
"""Four figures: the last block's direction at its end."""
CRUISE2, ENTRY2 = 32, 33
"""The last block's cruise speed and the speed the first block still in the window is entered with, squared."""
SECONDS, HEATING_S, DWELL_S, OTHER_S = 34, 35, 36, 37
FILAMENT, FILAMENT_TOP = 38, 39
LAID_LOW, LAID_HIGH, ALL_LOW, ALL_HIGH = 40, 43, 46, 49
LAYER_Z, LAYER_H = 52, 53
MARKED_S, MARK_EVERY = 54, 55
BED, CHAMBER = 56, 59
"""Three figures each: target °C, °C when it was set, second when it was set."""
G10_MM, G10_MM_S = 62, 63
NOZZLE_TOP, BED_TOP, CHAMBER_TOP = 64, 65, 66
RETRACTED, FAN, FEED_TOP = 67, 68, 69
PRIOR_E, PRIOR_FEED = 70, 71
"""As they were before the line that is being read."""
NOZZLE = 72
"""Three figures a tool, as for the bed."""
FILAMENT_OF = NOZZLE + 3 * TOOLS
FLOATS = FILAMENT_OF + TOOLS

# integer state --------------------------------------------------------------------------------------------------
LINE, COMMAND, OFFSET_AT = 0, 1, 2
ABSOLUTE, ABSOLUTE_E, TOOL, PLANE, HOMED = 3, 4, 5, 6, 7
LAYERS, MARKS, SPANS, PLAN_MARKS, MOVES, BLOCKS = 8, 9, 10, 11, 12, 13
MOTIONS, UNREADABLE, NAMED, FEATURE = 14, 15, 16, 17
LAST_LAID, EMIT, SPAN, FAILED, G10_DONE, USED_TOOLS = 18, 19, 20, 21, 22, 23
OUTSIDE, EXTRUSIONS, SPIRAL = 24, 25, 26
INTS = 27

# the model's figures --------------------------------------------------------------------------------------------
M_VOLUME, M_NOZZLE_MAX, M_BED_MAX, M_CHAMBER_MAX, M_COLD = 0, 3, 4, 5, 6
M_NOZZLE, M_BED, M_CHAMBER = 7, 10, 13
"""Three figures each: °C/s from ambient, °C it would reach in the end, seconds of cooling's time constant."""
M_HOMING, M_LEVELLING, M_TOOL_CHANGE, M_WINDOW, M_BY_JERK = 16, 17, 18, 19, 20
FIGURES = 21

# kinds of marks, of moves, and why a reading fails -----------------------------------------------------------------
K_FEATURE, K_OBJECT, K_OBJECT_END, K_M486, K_PAUSE, K_NAMED, K_UNREADABLE = 0, 1, 2, 3, 4, 5, 6
TRAVEL, EXTRUDE, RETRACT, PRIME = 0, 1, 2, 3
CLOCKWISE, COUNTER = 16, 32
ZERO_BYTE, LONG_LINE, NO_SUCH_FIGURE, TOO_LONG = 1, 2, 3, 4
SPLINE_PIECES = 16
"""Straight pieces a G5 is gone in."""

# columns --------------------------------------------------------------------------------------------------------
B_LENGTH, B_CRUISE, B_ACC, B_ENTRY2, B_LAYER, B_COMMAND, B_FILAMENT, B_MOVE, B_SPAN, B_PLAN2 = range(10)
BLOCK_COLUMNS = 10
P_COMMAND, P_SECONDS, P_FILAMENT = 0, 1, 2
MARK_COLUMNS = 6
"""kind, offset, length, line, command, layer."""
S_LOW_X, S_LOW_Y, S_HIGH_X, S_HIGH_Y, S_FILAMENT, S_SECONDS, S_COUNT, S_MARK = 0, 1, 2, 3, 4, 5, 6, 7
SPAN_COLUMNS = 8
V_X, V_Y, V_Z, V_SPEED, V_FILAMENT, V_SECONDS, V_KIND, V_TOOL, V_LINE, V_CX, V_CY, V_MARK, V_COMMAND = range(13)
MOVE_COLUMNS = 13
M_WORDS = 10_000
"""Numbers of words that are counted; a G word's is its number x 10 + its first decimal."""


class Tables(NamedTuple):
    """What a reading fills. Rows grow by doubling; the kernel returns when one is nearly full."""

    blocks: Floats
    vals: Floats
    counts: Ints
    """Row 0: how often each G word came, row 1: each M word, rows 2 and 3: the line where it first came."""
    layer_floats: Floats
    layer_ints: Ints
    layer_seconds: Floats
    layer_filament: Floats
    marks: Ints
    spans: Floats
    plan: Floats
    moves: Floats
    rule_lines: Ints
    rule_counts: Ints
    rule_values: Floats


def figures_of(model: MachineModel) -> Floats:
    """A model's figures as the kernel wants them."""
    m = np.zeros(FIGURES)
    m[M_VOLUME : M_VOLUME + 3] = model.volume_mm
    m[M_NOZZLE_MAX], m[M_BED_MAX], m[M_CHAMBER_MAX] = (
        model.nozzle_ceiling_c,
        model.bed_ceiling_c,
        model.chamber_ceiling_c,
    )
    m[M_COLD] = model.cold_extrusion_c
    for at, heater in ((M_NOZZLE, model.nozzle_heat), (M_BED, model.bed_heat), (M_CHAMBER, model.chamber_heat)):
        m[at : at + 3] = heater.rise_c_s, heater.reach_c, heater.cooling_s
    m[M_HOMING], m[M_LEVELLING], m[M_TOOL_CHANGE] = model.homing_s, model.levelling_s, model.tool_change_s
    m[M_WINDOW], m[M_BY_JERK] = model.lookahead_moves, model.cornering == "jerk"
    return m


def first_floats(model: MachineModel) -> Floats:
    """The float state a machine of this model begins a file with."""
    f = np.zeros(FLOATS)
    f[FEED], f[UNIT], f[SPEED], f[FLOW], f[E_MM] = 25.0, 1.0, 1.0, 1.0, 1.0
    f[ACC_PRINT] = f[ACC_TRAVEL] = model.acceleration_mm_s2
    f[ACC_RETRACT] = model.retract_acceleration_mm_s2
    f[ACC_AXIS : ACC_AXIS + 4] = (*model.axis_acceleration_mm_s2, model.retract_acceleration_mm_s2)
    f[MAX_AXIS : MAX_AXIS + 4] = (*model.max_speed_mm_s, model.max_filament_mm_s)
    f[JERK : JERK + 4] = model.jerk_mm_s
    f[DEVIATION] = model.junction_deviation_mm
    for low in (LAID_LOW, ALL_LOW):
        f[low : low + 3], f[low + 3 : low + 6] = np.inf, -np.inf
    f[LAYER_Z], f[LAYER_H], f[MARK_EVERY] = -np.inf, 0.2, 2.0
    f[BED + 1] = f[CHAMBER + 1] = AMBIENT_C
    f[NOZZLE + 1 : FILAMENT_OF : 3] = AMBIENT_C
    f[G10_MM], f[G10_MM_S] = 0.8, 35.0
    return f


def first_ints() -> Ints:
    """The integer state a file begins with."""
    i = np.zeros(INTS, np.int64)
    i[ABSOLUTE] = i[ABSOLUTE_E] = 1
    i[PLANE], i[SPAN] = 17, -1
    i[FEATURE] = i[LAST_LAID] = -1
    return i
