"""What edits share: where a file's parts begin, what state a machine is in there, and how lines that were left out or
put in are made good: position, extruder count, retraction and feed rate as the following lines believe them."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from chronarch.core.errors import CoreError
from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.analysis import Analysis
from chronarch.core.gcode.contents import Ring
from chronarch.core.gcode.kernel_layout import Bytes, Floats, Ints
from chronarch.core.gcode.layers import layer_moves
from chronarch.core.gcode.reader import Pass
from chronarch.core.gcode.splice import Splice, line_starts
from chronarch.core.machines.model import MachineModel

TRAVEL_MM_MIN = 7200
RETRACT_MM, RETRACT_MM_MIN = 0.8, 2400
FAR_MM = 3.0
LIFT_MM = 0.6
NEAR_OUTLINE_MM = 2.0


class EditRefused(CoreError):
    """The edit cannot be made in this file; its text says why and what would help."""


@dataclass(frozen=True)
class Edited:
    """What an edit does: the splices, in words, and what a person must see to."""

    splices: tuple[Splice, ...]
    text: str
    care: str = ""


def gcode_line(text: str) -> bytes:
    return text.encode("utf-8", "replace") + b"\n"


def gcode_lines(*texts: str) -> bytes:
    return b"".join(gcode_line(t) for t in texts if t)


def states_at(data: Bytes, model: MachineModel, offsets: list[int]) -> list[tuple[Floats, Ints]]:
    """The reading's state at each of some rising offsets."""
    run, at, found = Pass.begin(model), 0, []
    for offset in offsets:
        run.run(data, at, offset)
        at = offset
        found.append((run.floats.copy(), run.ints.copy()))
    return found


def catch_up(was: tuple[Floats, Ints], now: tuple[Floats, Ints]) -> bytes:
    """Lines that bring the machine from where it is to where the file believes it to be, without laying anything."""
    f0, (f1, i1) = was[0], now
    if f1[s.UNIT] != 1.0:
        raise EditRefused("The file is in inches; edits that move things need millimetres. Slice it again in mm.")
    x0, y0, z0 = (float(v) for v in f0[: s.Z + 1])
    x1, y1, z1 = (float(v) for v in f1[: s.Z + 1])
    e1, mm = float(f1[s.E]), float(f1[s.E_MM] * f1[s.FLOW])
    back = (float(f1[s.RETRACTED]) - float(f0[s.RETRACTED])) / mm
    absolute, absolute_e = bool(i1[s.ABSOLUTE]), bool(i1[s.ABSOLUTE_E])
    far = np.hypot(x1 - x0, y1 - y0) > FAR_MM and f0[s.RETRACTED] < 0.1 and f1[s.RETRACTED] < 0.1
    pull = RETRACT_MM / mm if far else 0.0

    def filament(by: float) -> list[str]:
        """Move the filament by so much E and leave the count at what the file has."""
        if abs(by) < 1e-6:
            return []
        if absolute_e:
            return [f"G92 E{e1 - by:.5f}", f"G1 E{e1:.5f} F{RETRACT_MM_MIN}"]
        return [f"G1 E{by:.5f} F{RETRACT_MM_MIN}"]

    out = filament(-back - pull)
    if abs(z1 - z0) > 1e-6 or abs(x1 - x0) > 1e-6 or abs(y1 - y0) > 1e-6:
        if not absolute:
            out.append("G90")
        if z1 > z0 + 1e-6:
            out.append(f"G0 Z{z1:.3f} F{TRAVEL_MM_MIN}")
        out.append(f"G0 X{x1:.3f} Y{y1:.3f} F{TRAVEL_MM_MIN}")
        if z1 < z0 - 1e-6:
            out.append(f"G0 Z{z1:.3f} F{TRAVEL_MM_MIN}")
        if not absolute:
            out.append("G91")
            if absolute_e:
                out.append("M82")
            else:
                out.append("M83")
    out += filament(pull)
    if absolute_e:
        out.append(f"G92 E{e1:.5f}")
    out.append(f"G1 F{f1[s.FEED] * 60:g}")
    return gcode_lines(*out)


def offset_of(starts: Ints, line: int, size: int) -> int:
    return int(starts[line - 1]) if line <= len(starts) else size


def distance(points: Floats, ring: Ring) -> Floats:
    """How far points (n x 2) lie outside a convex, counter-clockwise ring, mm; 0 or less inside."""
    corners = np.array(ring, np.float64)
    if len(corners) < 3:
        away: Floats = np.hypot(*(points - corners.mean(0)).T)
        return away
    edge = np.roll(corners, -1, 0) - corners
    normal = np.stack([edge[:, 1], -edge[:, 0]], 1) / np.maximum(np.hypot(edge[:, 0], edge[:, 1]), 1e-9)[:, None]
    outside: Floats = ((points[:, None, :] - corners[None]) * normal[None]).sum(2).max(1)
    return outside


def body_start(data: Bytes, a: Analysis, model: MachineModel) -> int:
    """Where the first line that lays an object begins: after homing, heating and priming."""
    if not a.layers:
        raise EditRefused("The file lays nothing; there is nothing to edit.")
    first = a.layers[0].offset
    if not a.objects:
        return first
    found = layer_moves(data, a.index, 1, model)
    laid = np.flatnonzero(found.moves["kind"] == s.EXTRUDE)
    x = np.concatenate([[found.start[0]], found.moves["x"]])
    y = np.concatenate([[found.start[1]], found.moves["y"]])
    middle = np.stack([(x[laid] + x[laid + 1]) / 2, (y[laid] + y[laid + 1]) / 2], 1).astype(np.float64)
    near = np.stack([distance(middle, o.outline) for o in a.objects], 1).min(1) < NEAR_OUTLINE_MM
    if not near.any():
        return first
    line = int(found.moves["line"][laid[int(near.argmax())]])
    return offset_of(line_starts(data), line, len(data))


def command_lines(data: Bytes, start: int, stop: int, words: str) -> list[re.Match[bytes]]:
    """Lines that begin with one of some words, such as M10[49]."""
    pattern = rb"^[ \t]*(?:[Nn]\d+[ \t]*)?(?:" + words.encode() + rb")(?![\d.])[^\n]*"
    return list(re.finditer(pattern, data[start:stop].tobytes(), re.M | re.I))


def merged(splices: list[Splice]) -> tuple[Splice, ...]:
    """In order, with neighbours joined."""
    out: list[Splice] = []
    for x in sorted(splices, key=lambda x: (x.start, x.stop)):
        if out and out[-1].stop == x.start:
            out[-1] = Splice(out[-1].start, x.stop, out[-1].text + x.text)
        else:
            out.append(x)
    return tuple(out)
