"""The edit that lays everything several times across the bed, layer by layer."""

from __future__ import annotations

import re

import numpy as np

from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.analysis import Analysis
from chronarch.core.gcode.contents import PrintedObject
from chronarch.core.gcode.edit_repair import (
    LIFT_MM,
    TRAVEL_MM_MIN,
    Edited,
    EditRefused,
    body_start,
    catch_up,
    command_lines,
    gcode_line,
    gcode_lines,
    states_at,
)
from chronarch.core.gcode.edits import Repeat
from chronarch.core.gcode.kernel_layout import Bytes, Floats, Ints
from chronarch.core.gcode.shift import shifted
from chronarch.core.gcode.splice import Splice, line_starts
from chronarch.core.machines.model import MachineModel


def _bounds(objects: tuple[PrintedObject, ...]) -> tuple[float, float, float, float]:
    points = np.array([p for o in objects for p in o.outline])
    low, high = points.min(0), points.max(0)
    return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def places(a: Analysis, model: MachineModel, gap_mm: float) -> list[tuple[float, float]]:
    """Where copies of all that is laid would fit beside it: shifts in mm, nearest first."""
    if not a.objects or a.extents_mm is None:
        raise EditRefused("No object was found in the file, so none can be repeated.")
    left, front, right, back = _bounds(a.objects)
    w, h = right - left + gap_mm, back - front + gap_mm
    wide, deep = model.volume_mm[0], model.volume_mm[1]
    columns = range(-int(left // w) - 1, int((wide - right) // w) + 2)
    rows = range(-int(front // h) - 1, int((deep - back) // h) + 2)
    found = [
        (c * w, r * h)
        for c in columns
        for r in rows
        if (c or r)
        and left + c * w >= 1
        and right + c * w <= wide - 1
        and front + r * h >= 1
        and back + r * h <= deep - 1
    ]
    low = a.extents_mm[0]
    # what is laid left of the objects or before them (a priming line) must stay free
    if low[0] < left - 1:
        found = [p for p in found if left + p[0] > low[0] + 3 or p[0] >= 0]
    if low[1] < front - 1:
        found = [p for p in found if front + p[1] > low[1] + 3 or p[1] >= 0]
    return sorted(found, key=lambda p: (round(np.hypot(*p), 3), p))


def repeat(data: Bytes, a: Analysis, edit: Repeat, model: MachineModel) -> Edited:
    if not 2 <= edit.copies <= 200:
        raise EditRefused("Say how many there shall be in all: 2 to 200.")
    if a.spiral or a.by_object:
        raise EditRefused("The file spirals or builds one object after another; repeat it in the slicer instead.")
    spots = places(a, model, edit.gap_mm)
    if len(spots) < edit.copies - 1:
        raise EditRefused(f"{len(spots) + 1} fit on this bed with {edit.gap_mm:g} mm between; ask for no more.")
    start, end = body_start(data, a, model), a.end_offset
    if command_lines(data, start, end, "G28|G92[^\n]*[XYxy]"):
        raise EditRefused("The file homes or renames positions between its layers; repeat it in the slicer instead.")
    bounds = [start, *(layer.offset for layer in a.layers[1:]), end]
    states = states_at(data, model, bounds)
    splices = []
    for n in range(len(bounds) - 1):
        (f0, i0), after = states[n], states[n + 1]
        out = []
        here = after
        begins, ends = (_owner(data, a, offset) for offset in bounds[n : n + 2])
        for copy, (dx, dy) in enumerate(spots[: edit.copies - 1], 2):
            there = f0.copy()
            there[s.X] += dx
            there[s.Y] += dy
            out.append(_lifted(here, (there, i0)))
            out.append(_mark_of(a, begins, copy))
            if n == 0 and begins >= 0 and a.spans.keys[begins].startswith("#"):
                out.append(gcode_line(f'M486 A"{_copy_name(a.spans.names[begins], copy)}"'))
            piece = shifted(data, bounds[n], bounds[n + 1], dx, dy, bool(i0[s.ABSOLUTE]))
            out.append(_renamed(a, piece, copy))
            f1 = after[0].copy()
            f1[s.X] += dx
            f1[s.Y] += dy
            here = (f1, after[1])
        out.append(_mark_of(a, ends, 1))
        out.append(_lifted(here, after))
        splices.append(Splice(bounds[n + 1], bounds[n + 1], b"".join(out)))
    return Edited(tuple(splices), f"{edit.copies} times in all, {edit.gap_mm:g} mm apart, layer by layer.")


def _owner(data: Bytes, a: Analysis, offset: int) -> int:
    """The object that the slicer's marks name at a byte, -1 for none."""
    line = int(np.searchsorted(line_starts(data), offset, "right"))
    return int(a.spans.of_lines(np.array([line]))[0])


def _mark_of(a: Analysis, owner: int, copy: int) -> bytes:
    """A line that says that what follows lays an object's copy (1 is the object itself), as the slicer would."""
    if not a.spans.names:
        return b""
    if a.spans.keys[0].startswith("#"):
        return gcode_line(
            "M486 S-1" if owner < 0 else f"M486 S{_number_of_copy(a, int(a.spans.keys[owner][1:]), copy)}"
        )
    return gcode_line(
        "; stop printing object" if owner < 0 else f"; printing object {_copy_name(a.spans.names[owner], copy)}"
    )


def _copy_name(name: str, copy: int) -> str:
    return name if copy == 1 else f"{name}, copy {copy}"


def _number_of_copy(a: Analysis, number: int, copy: int) -> int:
    highest = max(int(key[1:]) for key in a.spans.keys)
    return number + (copy - 1) * (highest + 1)


def _renamed(a: Analysis, piece: bytes, copy: int) -> bytes:
    """A copy's lines with its own objects' numbers and names in the slicer's marks."""
    if not a.spans.names:
        return piece

    def number(found: re.Match[bytes]) -> bytes:
        return found[1] + str(_number_of_copy(a, int(found[2]), copy)).encode()

    def name(found: re.Match[bytes]) -> bytes:
        return found[1] + found[2].rstrip(b'\r"') + f", copy {copy}".encode() + (b'"' if b'"' in found[0] else b"")

    if a.spans.keys[0].startswith("#"):
        piece = re.sub(rb"(?m)^([ \t]*M486[ \t]*S[ \t]*)(\d+)", number, piece)
        return re.sub(rb'(?m)^([ \t]*M486[ \t]*A[ \t]*"?)([^"\n]*"?)', name, piece)
    return re.sub(rb"(?mi)^([ \t]*;[ \t]*(?:printing object |mesh:))([^\n]*)", name, piece)


def _lifted(was: tuple[Floats, Ints], now: tuple[Floats, Ints]) -> bytes:
    """As `catch_up`, but over what is laid already."""
    over = was[0].copy()
    over[s.Z] = max(was[0][s.Z], now[0][s.Z]) + LIFT_MM
    modes = "" if was[1][s.ABSOLUTE] else "G90"
    return gcode_lines(modes, f"G0 Z{over[s.Z]:.3f} F{TRAVEL_MM_MIN}", "G91" if modes else "") + catch_up(
        (over, was[1]), now
    )
