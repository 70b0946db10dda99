"""What a whole file says, for one model of machine: time, layers, filament, extents, heat, objects, pictures.

docs/reading.md tells what is assumed, with the formulas.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from chronarch.core.errors import NotGcode
from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.comments import HEAD, TAIL, SlicerSettings, Thumbnail, declared, thumbnails
from chronarch.core.gcode.contents import FilePause, Layer, PrintedObject
from chronarch.core.gcode.kernel_layout import Bytes, Floats, Ints
from chronarch.core.gcode.layers import Index
from chronarch.core.gcode.objects import Spans, find_objects, read_spans
from chronarch.core.gcode.plan import Mark, TimePlan
from chronarch.core.gcode.preflight import Faults, Finding, ReadingFault, preflight
from chronarch.core.gcode.reader import Pass, Told, as_bytes, read_all
from chronarch.core.gcode.rules import RULES
from chronarch.core.gcode.tokens import command_of, is_command, parse_words, takes_text
from chronarch.core.gcode.vocabulary import LASTING_SETTINGS, PASSED, PAUSES, READ
from chronarch.core.machines.model import MachineModel

_UNREADABLE_SHARE = 0.05
Box = tuple[tuple[float, float, float], tuple[float, float, float]]


@dataclass(frozen=True)
class Analysis:
    """What a file says, for one model of machine.

    Seconds: `planned_s` is all but the file's own pauses, and the sum of `before_s` (what comes before the first
    layer) and of the layers; `heating_s`, `dwell_s` and `other_s` (homing, probing, tool changes) are parts of it.
    Boxes are ((x, y, z) least, (x, y, z) greatest) in mm of the machine, of what is laid and of all motion.
    `filament_mm` maps tool number to length; temperatures are the highest asked, in °C, 0 when none is.
    """

    lines: int
    commands: int
    planned_s: float
    before_s: float
    heating_s: float
    dwell_s: float
    other_s: float
    layers: tuple[Layer, ...]
    extents_mm: Box | None
    travel_mm: Box | None
    filament_mm: dict[int, float]
    tools: tuple[int, ...]
    nozzle_c: float
    bed_c: float
    chamber_c: float
    spiral: bool
    by_object: bool
    pauses: tuple[FilePause, ...]
    objects: tuple[PrintedObject, ...]
    declared: SlicerSettings
    thumbnails: tuple[Thumbnail, ...] = field(repr=False)
    unknown: dict[str, int]
    findings: tuple[Finding, ...]
    plan: TimePlan = field(repr=False)
    index: Index = field(repr=False)
    spans: Spans = field(repr=False)
    end_offset: int
    """Where the lines after the last laid one begin (bytes)."""


def analyse(source: bytes | memoryview | Bytes, model: MachineModel, told: Told | None = None) -> Analysis:
    """Read a file's bytes as `model` would run them; `told` hears how far it is, 0 to 1.

    Raises NotGcode when the bytes are empty, hold no movement, are not G-code, or stop within a line.
    """
    data = as_bytes(source)
    if len(data) == 0:
        raise NotGcode("The file is empty. Choose a sliced G-code file.")
    run = read_all(data, model, told)
    i, f, t = run.ints, run.floats, run.tables
    marks = t.marks[: int(i[s.MARKS])]
    _check(data, run, marks)
    index = _index(run, len(data))
    spans = read_spans(data, marks)
    layers = _layers(run)
    laid = bool(layers)
    last = int(i[s.LAST_LAID])
    end = len(data) if last < 0 else last + data[last : last + 65536].tobytes().find(b"\n") + 1
    head = data[: min(len(data), HEAD)].tobytes()
    faults = _faults(data, run)
    tools = tuple(n for n in range(s.TOOLS) if int(i[s.USED_TOOLS]) >> n & 1) or (0,)
    said = declared(head[: 256 << 10], data[max(0, len(data) - TAIL) :].tobytes())
    return Analysis(
        lines=int(i[s.LINE]),
        commands=int(i[s.COMMAND]),
        planned_s=float(f[s.SECONDS]),
        before_s=float(t.layer_seconds[0]),
        heating_s=float(f[s.HEATING_S]),
        dwell_s=float(f[s.DWELL_S]),
        other_s=float(f[s.OTHER_S]),
        layers=layers,
        extents_mm=_box(run, s.LAID_LOW) if laid else None,
        travel_mm=_box(run, s.ALL_LOW) if np.isfinite(f[s.ALL_LOW]) else None,
        filament_mm={n: float(f[s.FILAMENT_OF + n]) for n in tools if f[s.FILAMENT_OF + n]},
        tools=tools,
        nozzle_c=float(f[s.NOZZLE_TOP]),
        bed_c=float(f[s.BED_TOP]),
        chamber_c=float(f[s.CHAMBER_TOP]),
        spiral=int(i[s.SPIRAL]) > 3,
        by_object=any(b.z_mm < a.z_mm - 0.01 for a, b in pairwise(layers)),
        pauses=_pauses(data, marks),
        objects=find_objects(data, index, run, spans, model) if laid else (),
        declared=said,
        thumbnails=thumbnails(head),
        unknown=_unknown(data, run, marks),
        findings=preflight(faults, model),
        plan=_plan(run, layers),
        index=index,
        spans=spans,
        end_offset=end,
    )


def _box(run: Pass, low: int) -> Box:
    f = run.floats[low : low + 6].tolist()
    return (f[0], f[1], f[2]), (f[3], f[4], f[5])


def _faults(data: Bytes, run: Pass) -> Faults:
    """What a reading noted on its way."""
    t, i, f = run.tables, run.ints, run.floats
    rules = {
        n: ReadingFault(int(t.rule_lines[n]), int(t.rule_counts[n]), float(t.rule_values[n]))
        for n in range(RULES)
        if t.rule_counts[n]
    }
    lasting = {
        word: (int(t.counts[3, int(word[1:])]), int(t.counts[1, int(word[1:])]))
        for word in LASTING_SETTINGS
        if t.counts[1, int(word[1:])]
    }
    pauses = tuple(int(m[3]) for m in t.marks[: int(i[s.MARKS])] if m[0] == s.K_PAUSE)
    return Faults(
        rules,
        lasting,
        int(i[s.EXTRUSIONS]) > 0,
        pauses,
        float(f[s.FEED_TOP]),
        _still_hot(f),
        tuple(n for n in range(s.TOOLS) if int(i[s.USED_TOOLS]) >> n & 1) or (0,),
        int(i[s.LAYERS]),
        _first_named(data, t.marks[: int(i[s.MARKS])]),
    )


def _first_named(data: Bytes, marks: Ints) -> tuple[int, str]:
    """The line and word of the first command with a name of its own."""
    found = marks[marks[:, 0] == s.K_NAMED][:1]
    if not len(found):
        return 0, ""
    text = data[int(found[0, 1]) : int(found[0, 1]) + 60].tobytes().decode("ascii", "replace")
    return int(found[0, 3]), text.split()[0].split("=")[0].split(";")[0]


def _index(run: Pass, size: int) -> Index:
    n = int(run.ints[s.LAYERS]) + 1
    ints = run.tables.layer_ints[:n].copy()
    floats = run.tables.layer_floats[:n].copy()
    if n > 0:
        ints[0], floats[0] = 0, 0
        ints[0, s.FEATURE] = -1
    ends = np.append(ints[1:, s.OFFSET_AT], size)
    return Index(floats, ints, ends)


def _layers(run: Pass) -> tuple[Layer, ...]:
    i, t = run.ints, run.tables
    found = []
    below = 0.0
    for n in range(1, int(i[s.LAYERS]) + 1):
        ints = t.layer_ints[n]
        z = float(t.layer_floats[n, s.LAYER_Z])
        height = z - below if z > below + 1e-6 else z
        below = z
        found.append(
            Layer(z, round(height, 4), int(ints[s.LINE]), int(ints[s.COMMAND]), int(ints[s.OFFSET_AT]),
                  float(t.layer_seconds[n]), float(t.layer_filament[n]))
        )  # fmt: skip
    return tuple(found)


def _plan(run: Pass, layers: tuple[Layer, ...]) -> TimePlan:
    rows = run.tables.plan[: int(run.ints[s.PLAN_MARKS])]
    return TimePlan(
        tuple(Mark(int(c), sec, mm) for c, sec, mm in rows.tolist()), tuple(n.first_command for n in layers)
    )


def _pauses(data: Bytes, marks: Ints) -> tuple[FilePause, ...]:
    found = []
    for kind, offset, length, line, command, layer in marks.tolist():
        if kind == s.K_PAUSE:
            text = data[offset : offset + min(length, 120)].tobytes().decode("utf-8", "replace").strip()
            word = text.split()[0].upper()
            found.append(FilePause(line, layer, command, text, PAUSES.get(word, "wait for a person")))
    return tuple(found)


def _unknown(data: Bytes, run: Pass, marks: Ints) -> dict[str, int]:
    """Words the reading has no meaning for, and how often each comes."""
    counts: Counter[str] = Counter()
    for row, letter in ((0, "G"), (1, "M")):
        for number in np.flatnonzero(run.tables.counts[row]).tolist():
            name = (
                f"{letter}{number}"
                if letter == "M"
                else f"G{number // 10}" + (f".{number % 10}" if number % 10 else "")
            )
            if name not in READ and name not in PASSED:
                counts[name] = int(run.tables.counts[row, number])
    for kind, offset, length, *_ in marks.tolist():
        if kind == s.K_NAMED:
            text = data[offset : offset + min(length, 60)].tobytes().decode("ascii", "replace")
            counts[text.split()[0].split("=")[0].split(";")[0]] += 1
    return dict(counts.most_common(200))


def _still_hot(f: Floats) -> bool:
    """Whether a heater is asked for something at the file's end."""
    return bool((f[s.NOZZLE : s.FILAMENT_OF : 3] > 0).any() or f[s.BED] > 0)


def _check(data: Bytes, run: Pass, marks: Ints) -> None:
    """Raises NotGcode for what is no G-code or was cut short."""
    i = run.ints
    unreadable = int(i[s.UNREADABLE])
    if unreadable > _UNREADABLE_SHARE * max(int(i[s.COMMAND]), 1):
        mark = next(m for m in marks.tolist() if m[0] == s.K_UNREADABLE)
        text = data[mark[1] : mark[1] + min(mark[2], 40)].tobytes().decode("utf-8", "replace").strip()
        raise NotGcode(f"This is not G-code (line {mark[3]}: {text!r}). Choose a sliced G-code file.")
    if i[s.MOTIONS] == 0:
        raise NotGcode("The file holds no movement (no G0 or G1). Choose a sliced G-code file.")
    if data[-1] == 10:
        return
    tail = data[max(0, len(data) - 4096) :].tobytes().rsplit(b"\n", 1)[-1]
    command = command_of(tail)
    if command:
        _check_last_line(command, int(i[s.LINE]), _still_hot(run.floats))


def _check_last_line(command: bytes, number: int, still_hot: bool) -> None:
    """A last line needs no end of line. The file was cut short when something else is missing: a word's number, or,
    after a last move, the end that turns the heaters off."""
    words = {} if takes_text(command) else parse_words(command)
    moves = words.get("G") in (0, 1, 2, 3, 5)
    broken = not is_command(command) or (moves and (still_hot or None in words.values()))
    if broken or (len(words) > 1 and list(words.values())[-1] is None and "G" not in words):
        text = command[:40].decode("utf-8", "replace")
        raise NotGcode(f"The file stops within line {number} ({text!r}): it was cut short. Add the whole file.")
