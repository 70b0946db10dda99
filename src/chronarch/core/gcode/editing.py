"""Making edits of a sliced file. Each says which bytes it replaces and with what; nothing else changes.

Where an edit leaves lines out or puts some in, it keeps the books that the lines after it rely on: position, extruder
count, retraction and feed rate are brought to what the file believes they are.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import numpy as np

from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.analysis import Analysis
from chronarch.core.gcode.duplicate import repeat
from chronarch.core.gcode.edit_repair import (
    LIFT_MM,
    NEAR_OUTLINE_MM,
    TRAVEL_MM_MIN,
    Edited,
    EditRefused,
    body_start,
    catch_up,
    command_lines,
    distance,
    gcode_line,
    gcode_lines,
    merged,
    offset_of,
    states_at,
)
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
from chronarch.core.gcode.kernel_layout import Bytes, Floats, Ints
from chronarch.core.gcode.layers import layer_moves
from chronarch.core.gcode.splice import Splice, line_starts
from chronarch.core.machines.model import MachineModel


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
    return offset_of(line_starts(data), int(moves["line"][laid[-1]]) + 1, len(data))


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
        for found in command_lines(data, at, a.end_offset, words):
            # what turns a heater off stays; every other later wish of this kind gives way to ours
            if not (spare and re.search(spare.encode(), found[0].split(b";")[0], re.I)):
                splices.append(
                    Splice(at + found.start(), at + found.end(), gcode_line(f"; left out: {_shown(found[0])}")[:-1])
                )
    if not put:
        raise EditRefused("Say what is to be set: nozzle, bed, fan or speed.")
    splices.append(Splice(at, at, gcode_lines(*put)))
    return Edited(merged(splices), f"From layer {edit.layer} on: {', '.join(said)}.")


def _shown(line: bytes) -> str:
    return line.decode("utf-8", "replace").strip()


def _pause(data: Bytes, a: Analysis, edit: PauseAt, model: MachineModel) -> Edited:
    at = _before_layer(data, a, edit.layer, model)
    message = " ".join(re.sub(r"[^\w .,:!?'°%/+-]", " ", edit.message).split())[:60]
    text = gcode_lines(f"M117 {message}" if message else "", f"M0 {message}".strip())
    return Edited((Splice(at, at, text),), f"Pause before layer {edit.layer}{f': {message}' if message else ''}.")


# leaving things out ------------------------------------------------------------------------------------------------


_MOVE_LINES = r"G0*[0-3]|G1[01]"


def _skip(data: Bytes, a: Analysis, edit: SkipObject, model: MachineModel) -> Edited:
    names = [o.name for o in a.objects]
    if edit.object not in names:
        listed = ", ".join(names[:8]) or "none"
        raise EditRefused(f"The file has no object {edit.object!r}; its objects are: {listed}.")
    if len(names) == 1:
        raise EditRefused("It is the file's only object; without it nothing would be laid.")
    first = _layer_at(a, edit.from_layer) if edit.from_layer > 1 else 0
    found = stretches_of(data, a, names.index(edit.object), model)
    stretches = [(max(start, first), stop) for start, stop in found if stop > first]
    states = states_at(data, model, [offset for stretch in stretches for offset in stretch])
    splices: list[Splice] = []
    for n, (start, stop) in enumerate(stretches):
        gone = [
            Splice(start + m.start(), min(stop, start + m.end() + 1), b"")
            for m in command_lines(data, start, stop, _MOVE_LINES)
        ]
        if gone:
            splices += gone
            splices.append(Splice(stop, stop, catch_up(states[2 * n], states[2 * n + 1])))
    since = f" from layer {edit.from_layer} on" if edit.from_layer > 1 else ""
    return Edited(merged(splices), f"Leave out {edit.object}{since}; {len(names) - 1} of {len(names)} objects remain.")


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
        pairs = [(offset_of(starts, b + 1, len(data)), offset_of(starts, e, len(data))) for b, e in found]
        return [(x, min(y, a.end_offset)) for x, y in pairs if x < min(y, a.end_offset)]
    pairs = []
    for layer in range(1, len(a.layers) + 1):
        pairs += _near_lines(data, a, layer, number, model)
    return [(offset_of(starts, b, len(data)), offset_of(starts, e + 1, len(data))) for b, e in _joined(pairs)]


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


def _joined(runs: list[tuple[int, int]]) -> list[tuple[int, int]]:
    out: list[tuple[int, int]] = []
    for begin, end in runs:
        if out and begin <= out[-1][1] + 1:
            out[-1] = (out[-1][0], end)
        else:
            out.append((begin, end))
    return out


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
    f, i = states_at(data, model, [at])[0]
    if f[s.UNIT] != 1.0:
        raise EditRefused("The file is in inches; slice it again in mm.")
    first = a.layers[0].offset
    gone = [Splice(m.start(), min(first, m.end() + 1), b"") for m in command_lines(data, 0, first, _NOT_AGAIN)]
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
    splices = [*gone, Splice(first, at, gcode_lines(*lines))]
    care = (
        f"Z is not homed, for a part stands on the bed. The machine waits until somebody has brought the nozzle to the "
        f"top of layer {edit.layer - 1} (z {top:.2f} mm)."
    )
    return Edited(merged(splices), f"Begin at layer {edit.layer} of {len(a.layers)}, z {z:.2f} mm.", care)


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
        now = states_at(data, model, [at])[0]
        f = now[0]
        head = re.match(rb"(?:[ \t]*(?:;[^\n]*)?\r?\n)*", data[:at].tobytes())
        begin = head.end() if head else 0
        text = _filled(model.start_gcode, values)
        go = [*_restored(now, len(a.tools) > 1), "G90", f"G0 Z{f[s.Z] + LIFT_MM:.3f} F600",
              f"G0 X{f[s.X]:.3f} Y{f[s.Y]:.3f} F{TRAVEL_MM_MIN}", f"G0 Z{f[s.Z]:.3f} F600",
              *_restored(now, False)[1:3], f"G92 E{f[s.E]:.5f}", f"G1 F{f[s.FEED] * 60:g}"]  # fmt: skip
        splices.append(Splice(begin, at, text + gcode_lines(*go)))
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
    start, stop = offset_of(starts, edit.first, len(data)), offset_of(starts, edit.last + 1, len(data))
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
    Repeat: repeat,
    StartFrom: _start_from,
    OwnSections: _own_sections,
    ReplaceLines: _replace_lines,
}
