"""Making edits of a sliced file. Each says which bytes it replaces and with what; nothing else changes.

Where an edit leaves lines out or puts some in, it keeps the books that the lines after it rely on: position, extruder
count, retraction and feed rate are brought to what the file believes they are.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from chronarch.core.errors import CoreError
from chronarch.core.fleet import MachineModel
from chronarch.core.gcode import state as s
from chronarch.core.gcode.analysis import Analysis
from chronarch.core.gcode.edits import (
    Edit,
    OwnSections,
    PauseAt,
    Repeat,
    ReplaceLines,
    SetFromLayer,
    SkipObject,
    StartFrom,
)
from chronarch.core.gcode.layers import layer_moves
from chronarch.core.gcode.objects import PrintedObject, Ring
from chronarch.core.gcode.reader import Pass
from chronarch.core.gcode.shift import shifted
from chronarch.core.gcode.splice import Splice, line_starts
from chronarch.core.gcode.state import Bytes, Floats, Ints

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


def make(data: Bytes, a: Analysis, edit: Edit, model: MachineModel) -> Edited:
    """Work out an edit of a file that was read as `a`. Raises EditRefused."""
    return _MAKERS[type(edit)](data, a, edit, model)


def _layer_at(a: Analysis, layer: int, *, least: int = 1) -> int:
    """The byte a layer begins at. Raises EditRefused."""
    if not least <= layer <= len(a.layers):
        raise EditRefused(f"The file has {len(a.layers)} layers; choose one from {least} to {len(a.layers)}.")
    return a.layers[layer - 1].offset


def _before_layer(data: Bytes, a: Analysis, layer: int, model: MachineModel) -> int:
    """The byte after the last line that lays the layer below: before the head goes up and over."""
    at = _layer_at(a, layer)
    if layer == 1:
        return at
    moves = layer_moves(data, a.index, layer - 1, model).moves
    laid = np.flatnonzero(moves["kind"] == s.EXTRUDE)
    if not len(laid):
        return at
    return _offset(line_starts(data), int(moves["line"][laid[-1]]) + 1, len(data))


def _line(text: str) -> bytes:
    return text.encode("utf-8", "replace") + b"\n"


def _lines(*texts: str) -> bytes:
    return b"".join(_line(t) for t in texts if t)


def _commands(data: Bytes, start: int, stop: int, words: str) -> list[re.Match[bytes]]:
    """Lines that begin with one of some words, such as M10[49]."""
    pattern = rb"^[ \t]*(?:[Nn]\d+[ \t]*)?(?:" + words.encode() + rb")(?![\d.])[^\n]*"
    return list(re.finditer(pattern, data[start:stop].tobytes(), re.M | re.I))


def _set(data: Bytes, a: Analysis, edit: SetFromLayer, model: MachineModel) -> Edited:
    at = _before_layer(data, a, edit.layer, model)
    said, put, splices = [], [], []
    fan = None if edit.fan_pct is None else int(edit.fan_pct * 255 / 100 + 0.5)
    wishes: tuple[tuple[float | None, str, str, str, float, str], ...] = (
        (edit.nozzle_c, "M10[49]", "M104 S{:g}", "nozzle {:g} °C", model.nozzle_ceiling_c, "S0*(?:\\.0*)?(?![\\d.])"),
        (edit.bed_c, "M140|M190", "M140 S{:g}", "bed {:g} °C", model.bed_ceiling_c, "S0*(?:\\.0*)?(?![\\d.])"),
        (fan, "M10[67]", "M106 S{:g}", f"fan {edit.fan_pct or 0:g} %", 255, ""),
        (edit.speed_pct, "M220", "M220 S{:g}", "speed {:g} %", 500, ""),
    )
    for value, words, write, say, most, spare in wishes:
        if value is None:
            continue
        if not 0 <= value <= most:
            raise EditRefused(f"{say.format(value)} is out of bounds: 0 to {most:g} is possible.")
        said.append(say.format(value))
        put.append(write.format(value))
        for found in _commands(data, at, a.end_offset, words):
            # what turns a heater off stays; every other later wish of this kind gives way to ours
            if not (spare and re.search(spare.encode(), found[0].split(b";")[0], re.I)):
                splices.append(
                    Splice(at + found.start(), at + found.end(), _line(f"; left out: {_shown(found[0])}")[:-1])
                )
    if not put:
        raise EditRefused("Say what is to be set: nozzle, bed, fan or speed.")
    splices.append(Splice(at, at, _lines(*put)))
    return Edited(_merged(splices), f"From layer {edit.layer} on: {', '.join(said)}.")


def _shown(line: bytes) -> str:
    return line.decode("utf-8", "replace").strip()


def _pause(data: Bytes, a: Analysis, edit: PauseAt, model: MachineModel) -> Edited:
    at = _before_layer(data, a, edit.layer, model)
    message = " ".join(re.sub(r"[^\w .,:!?'°%/+-]", " ", edit.message).split())[:60]
    text = _lines(f"M117 {message}" if message else "", f"M0 {message}".strip())
    return Edited((Splice(at, at, text),), f"Pause before layer {edit.layer}{f': {message}' if message else ''}.")


# leaving things out ------------------------------------------------------------------------------------------------


def _states(data: Bytes, model: MachineModel, offsets: list[int]) -> list[tuple[Floats, Ints]]:
    """The reading's state at each of some rising offsets."""
    run, at, found = Pass.begin(model), 0, []
    for offset in offsets:
        run.run(data, at, offset)
        at = offset
        found.append((run.floats.copy(), run.ints.copy()))
    return found


def _catch_up(was: tuple[Floats, Ints], now: tuple[Floats, Ints]) -> bytes:
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
    return _lines(*out)


_MOVE_LINES = r"G0*[0-3]|G1[01]"


def _skip(data: Bytes, a: Analysis, edit: SkipObject, model: MachineModel) -> Edited:
    names = [o.name for o in a.objects]
    if edit.object not in names:
        listed = ", ".join(names[:8]) or "none"
        raise EditRefused(f"The file has no object {edit.object!r}; its objects are: {listed}.")
    if len(names) == 1:
        raise EditRefused("It is the file's only object; without it nothing would be laid.")
    stretches = stretches_of(data, a, names.index(edit.object), model)
    states = _states(data, model, [offset for stretch in stretches for offset in stretch])
    splices: list[Splice] = []
    for n, (start, stop) in enumerate(stretches):
        gone = [
            Splice(start + m.start(), min(stop, start + m.end() + 1), b"")
            for m in _commands(data, start, stop, _MOVE_LINES)
        ]
        if gone:
            splices += gone
            splices.append(Splice(stop, stop, _catch_up(states[2 * n], states[2 * n + 1])))
    return Edited(_merged(splices), f"Leave out {edit.object}; {len(names) - 1} of {len(names)} objects remain.")


def stretches_of(data: Bytes, a: Analysis, number: int, model: MachineModel) -> list[tuple[int, int]]:
    """The bytes that lay one object: by the slicer's marks, else by where lines are laid."""
    starts = line_starts(data)
    target = a.objects[number]
    if target.marked:
        owner = a.spans.names.index(target.name)
        lines, owners = a.spans.starts, a.spans.owners
        ends = np.append(lines[1:], len(starts) + 1)
        found = [(int(b), int(e)) for b, e, who in zip(lines, ends, owners, strict=True) if who == owner]
        # the line of the mark itself stays
        pairs = [(_offset(starts, b + 1, len(data)), _offset(starts, e, len(data))) for b, e in found]
        return [(x, min(y, a.end_offset)) for x, y in pairs if x < min(y, a.end_offset)]
    pairs = []
    for layer in range(1, len(a.layers) + 1):
        pairs += _near_lines(data, a, layer, number, model)
    return [(_offset(starts, b, len(data)), _offset(starts, e + 1, len(data))) for b, e in _joined(pairs)]


def _offset(starts: Ints, line: int, size: int) -> int:
    return int(starts[line - 1]) if line <= len(starts) else size


def _near_lines(data: Bytes, a: Analysis, layer: int, number: int, model: MachineModel) -> list[tuple[int, int]]:
    """Runs of lines (first, last) in a layer that lay material over one object's footprint."""
    found = layer_moves(data, a.index, layer, model)
    moves = found.moves
    laid = np.flatnonzero(moves["kind"] == s.EXTRUDE)
    if not len(laid):
        return []
    x = np.concatenate([[found.start[0]], moves["x"]])
    y = np.concatenate([[found.start[1]], moves["y"]])
    middle = np.stack([(x[laid] + x[laid + 1]) / 2, (y[laid] + y[laid + 1]) / 2], 1).astype(np.float64)
    away = np.stack([distance(middle, o.outline) for o in a.objects], 1)
    mine = (away.argmin(1) == number) & (away.min(1) < 20.0 if layer > 1 else away.min(1) < NEAR_OUTLINE_MM)
    lines = moves["line"][laid].astype(int)
    runs: list[tuple[int, int]] = []
    open_ = False
    for line, own in zip(lines.tolist(), mine.tolist(), strict=True):
        if own and open_:
            runs[-1] = (runs[-1][0], line)
        elif own:
            runs.append((line, line))
        open_ = own
    return runs


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


def _joined(runs: list[tuple[int, int]]) -> list[tuple[int, int]]:
    out: list[tuple[int, int]] = []
    for begin, end in runs:
        if out and begin <= out[-1][1] + 1:
            out[-1] = (out[-1][0], end)
        else:
            out.append((begin, end))
    return out


def _merged(splices: list[Splice]) -> tuple[Splice, ...]:
    """In order, with neighbours joined."""
    out: list[Splice] = []
    for x in sorted(splices, key=lambda x: (x.start, x.stop)):
        if out and out[-1].stop == x.start:
            out[-1] = Splice(out[-1].start, x.stop, out[-1].text + x.text)
        else:
            out.append(x)
    return tuple(out)


# putting things in more than once ----------------------------------------------------------------------------------


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
    return _offset(line_starts(data), line, len(data))


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


def _repeat(data: Bytes, a: Analysis, edit: Repeat, model: MachineModel) -> Edited:
    if not 2 <= edit.copies <= 200:
        raise EditRefused("Say how many there shall be in all: 2 to 200.")
    if a.spiral or a.by_object:
        raise EditRefused("The file spirals or builds one object after another; repeat it in the slicer instead.")
    spots = places(a, model, edit.gap_mm)
    if len(spots) < edit.copies - 1:
        raise EditRefused(f"{len(spots) + 1} fit on this bed with {edit.gap_mm:g} mm between; ask for no more.")
    start, end = body_start(data, a, model), a.end_offset
    if _commands(data, start, end, "G28|G92[^\n]*[XYxy]"):
        raise EditRefused("The file homes or renames positions between its layers; repeat it in the slicer instead.")
    bounds = [start, *(layer.offset for layer in a.layers[1:]), end]
    states = _states(data, model, bounds)
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
                out.append(_line(f'M486 A"{_copy_name(a.spans.names[begins], copy)}"'))
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
        return _line("M486 S-1" if owner < 0 else f"M486 S{_number_of_copy(a, int(a.spans.keys[owner][1:]), copy)}")
    return _line(
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
    """As `_catch_up`, over what is laid already."""
    over = was[0].copy()
    over[s.Z] = max(was[0][s.Z], now[0][s.Z]) + LIFT_MM
    modes = "" if was[1][s.ABSOLUTE] else "G90"
    return _lines(modes, f"G0 Z{over[s.Z]:.3f} F{TRAVEL_MM_MIN}", "G91" if modes else "") + _catch_up(
        (over, was[1]), now
    )


# other beginnings and ends -----------------------------------------------------------------------------------------

_NOT_AGAIN = r"G0*[0-3]|G0*4|G1[01]|G28|G29|G92|M109|M190|M104|M140|M116|M400|M0*[01]|M486"


def _restored(now: tuple[Floats, Ints], tools: bool) -> list[str]:
    """Lines that set the modes the file relies on from here."""
    f, i = now
    out = ["G21", "G90" if i[s.ABSOLUTE] else "G91", "M82" if i[s.ABSOLUTE_E] else "M83"]
    if tools:
        out.append(f"T{int(i[s.TOOL])}")
    out.append(f"M106 S{f[s.FAN]:.0f}" if f[s.FAN] else "M107")
    out.append(f"G1 F{f[s.FEED] * 60:g}")
    return out


def _start_from(data: Bytes, a: Analysis, edit: StartFrom, model: MachineModel) -> Edited:
    at = _layer_at(a, edit.layer, least=2)
    f, i = _states(data, model, [at])[0]
    if f[s.UNIT] != 1.0:
        raise EditRefused("The file is in inches; slice it again in mm.")
    first = a.layers[0].offset
    gone = [Splice(m.start(), min(first, m.end() + 1), b"") for m in _commands(data, 0, first, _NOT_AGAIN)]
    top = a.layers[edit.layer - 2].z_mm
    tool = int(i[s.TOOL])
    nozzle, bed = float(f[s.NOZZLE + 3 * tool]), float(f[s.BED])
    x, y, z, e = (float(f[k]) for k in (s.X, s.Y, s.Z, s.E))
    lines = [
        f"; begins at layer {edit.layer} of {len(a.layers)}",
        f"M140 S{bed:g}", f"M104 S{nozzle:g}", f"M190 S{bed:g}", f"M109 S{nozzle:g}",
        "G21", "G90", "G28 X Y",
        f"M117 Touch the part's top, z {top:.2f}", f"M0 Bring the nozzle to the part's top, z {top:.2f}",
        f"G92 Z{top:.3f}", f"G0 Z{max(top, z) + 5:.3f} F600", f"G0 X{x:.3f} Y{y:.3f} F{TRAVEL_MM_MIN}",
        "M83", "G1 E4 F300", "G1 E-0.8 F2400", f"G0 Z{z:.3f} F600", "G1 E0.8 F2400",
        f"M204 P{f[s.ACC_PRINT]:g} T{f[s.ACC_TRAVEL]:g}",
        *_restored((f, i), len(a.tools) > 1), f"G92 E{e:.5f}",
    ]  # fmt: skip
    splices = [*gone, Splice(first, at, _lines(*lines))]
    care = (
        f"Z is not homed, for a part stands on the bed. The machine waits until somebody has brought the nozzle to the "
        f"top of layer {edit.layer - 1} (z {top:.2f} mm)."
    )
    return Edited(_merged(splices), f"Begin at layer {edit.layer} of {len(a.layers)}, z {z:.2f} mm.", care)


def _own_sections(data: Bytes, a: Analysis, edit: OwnSections, model: MachineModel) -> Edited:
    wanted = [(edit.start, model.start_gcode, "start"), (edit.end, model.end_gcode, "end")]
    missing = [name for wish, text, name in wanted if wish and not text.strip()]
    if missing or not (edit.start or edit.end):
        raise EditRefused(
            f"{model.name} has no {' or '.join(missing) or 'start or end'} section of its own; give it one."
        )
    splices = []
    values = {"nozzle_c": f"{a.nozzle_c:g}", "bed_c": f"{a.bed_c:g}"}
    if edit.start:
        at = body_start(data, a, model)
        now = _states(data, model, [at])[0]
        f = now[0]
        head = re.match(rb"(?:[ \t]*(?:;[^\n]*)?\r?\n)*", data[:at].tobytes())
        begin = head.end() if head else 0
        text = _filled(model.start_gcode, values)
        go = [*_restored(now, len(a.tools) > 1), "G90", f"G0 Z{f[s.Z] + LIFT_MM:.3f} F600",
              f"G0 X{f[s.X]:.3f} Y{f[s.Y]:.3f} F{TRAVEL_MM_MIN}", f"G0 Z{f[s.Z]:.3f} F600",
              *_restored(now, False)[1:3], f"G92 E{f[s.E]:.5f}", f"G1 F{f[s.FEED] * 60:g}"]  # fmt: skip
        splices.append(Splice(begin, at, text + _lines(*go)))
    if edit.end:
        splices.append(Splice(a.end_offset, len(data), _filled(model.end_gcode, values)))
    which = " and ".join(name for wish, _, name in wanted if wish)
    return Edited(tuple(splices), f"{model.name}'s own {which} in place of the file's.")


def _filled(text: str, values: dict[str, str]) -> bytes:
    """A section with its places filled in."""
    for name, value in values.items():
        text = text.replace("{" + name + "}", value)
    return text.strip("\r\n").encode() + b"\n"


def _replace_lines(data: Bytes, a: Analysis, edit: ReplaceLines, model: MachineModel) -> Edited:
    starts = line_starts(data)
    count = len(starts)
    if not 1 <= edit.first <= count + 1 or not edit.first - 1 <= edit.last <= count:
        raise EditRefused(f"The file has {count} lines; lines {edit.first} to {edit.last} are not among them.")
    start, stop = _offset(starts, edit.first, len(data)), _offset(starts, edit.last + 1, len(data))
    text = edit.text.encode()
    if text and not text.endswith(b"\n"):
        text += b"\n"
    lines = f"line {edit.first}" if edit.first == edit.last else f"lines {edit.first} to {edit.last}"
    what = f"New text before line {edit.first}." if edit.last < edit.first else f"New text for {lines}."
    return Edited((Splice(start, stop, text),), what)


_MAKERS: dict[type, Callable[[Bytes, Analysis, Any, MachineModel], Edited]] = {
    SetFromLayer: _set,
    PauseAt: _pause,
    SkipObject: _skip,
    Repeat: _repeat,
    StartFrom: _start_from,
    OwnSections: _own_sections,
    ReplaceLines: _replace_lines,
}
