"""What a whole file says: commands, layers, planned time, extents, filament, temperatures.

This first reading plans each move as a trapezoid of constant acceleration whose entry speed is what the corner
before it lets through; it does not look ahead. See `Planner` for the formula.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

from chronarch.core.errors import NotGcode
from chronarch.core.fleet import MachineModel
from chronarch.core.gcode.plan import Mark, Plan
from chronarch.core.gcode.words import command_of, is_command, parse_words, takes_text

LONGEST_LINE = 4096
MARK_EVERY_S = 2.0
_UNREADABLE_SHARE = 0.05


@dataclass(frozen=True)
class Layer:
    """One layer: its height over the bed (mm), the commands before it, its planned seconds, its filament (mm)."""

    z_mm: float
    first_command: int
    seconds: float
    filament_mm: float


@dataclass(frozen=True)
class Analysis:
    """What a file says, for one model of machine.

    `extents_mm` is ((x, y, z) least, (x, y, z) greatest) of extrusion, None when nothing is extruded;
    `filament_mm` maps tool number to length; temperatures are the highest asked, in °C, 0 when none is.
    """

    lines: int
    commands: int
    planned_s: float
    layers: tuple[Layer, ...]
    extents_mm: tuple[tuple[float, float, float], tuple[float, float, float]] | None
    filament_mm: dict[int, float]
    nozzle_c: float
    bed_c: float
    unknown: dict[str, int]
    plan: Plan = field(repr=False)


class Planner:
    """Seconds of each move, one after another.

    A move of length d at cruise speed v, entered at u, with acceleration a, that may leave at w takes
    (v-u)/a + (v-w)/a + (d - (v²-u²)/2a - (v²-w²)/2a)/v where it reaches v, and the triangle's time where it does
    not: uniformly accelerated motion, v² = u² + 2ad. The corner speed is the slower cruise times the cosine of
    the turn, none at a right angle or sharper; the exit speed is taken as the corner with a like move.
    """

    def __init__(self, model: MachineModel) -> None:
        self._accel = model.acceleration_mm_s2
        self._limits = model.max_speed_mm_s
        self._direction = (0.0, 0.0, 0.0)
        self._cruise = 0.0

    def rest(self) -> None:
        """The machine comes to a stop."""
        self._cruise = 0.0

    def move_s(self, dx: float, dy: float, dz: float, de: float, feed_mm_s: float) -> float:
        """Seconds for a move by (dx, dy, dz) mm with `de` mm of filament."""
        travel = math.sqrt(dx * dx + dy * dy + dz * dz)
        if travel == 0:
            self.rest()
            return abs(de) / feed_mm_s if feed_mm_s > 0 else 0.0
        direction = (dx / travel, dy / travel, dz / travel)
        cruise = feed_mm_s
        for share, limit in zip(direction, self._limits, strict=True):
            if share and abs(share) * cruise > limit:
                cruise = limit / abs(share)
        if cruise <= 0:
            return 0.0
        turn = sum(p * q for p, q in zip(self._direction, direction, strict=True))
        corner = min(cruise, self._cruise) * max(0.0, turn)
        self._direction, self._cruise = direction, cruise
        return trapezoid_s(travel, corner, cruise, corner, self._accel)


def trapezoid_s(length_mm: float, entry: float, cruise: float, leave: float, accel: float) -> float:
    """Seconds to go `length_mm`, from `entry` through `cruise` to `leave` mm/s, at `accel` mm/s²."""
    up = (cruise * cruise - entry * entry) / (2 * accel)
    down = (cruise * cruise - leave * leave) / (2 * accel)
    if up + down <= length_mm:
        return (cruise - entry) / accel + (cruise - leave) / accel + (length_mm - up - down) / cruise
    peak = math.sqrt(max(accel * length_mm + (entry * entry + leave * leave) / 2, entry * entry, leave * leave))
    return max((peak - entry) / accel + (peak - leave) / accel, 2 * length_mm / (entry + leave + 2 * peak))


class _Reader:
    """Follows a file's commands and adds up what they do."""

    def __init__(self, model: MachineModel) -> None:
        self.planner = Planner(model)
        self.position = [0.0, 0.0, 0.0]
        self.e = 0.0
        self.absolute = True
        self.absolute_e = True
        self.unit_mm = 1.0
        self.feed_mm_s = 25.0
        self.tool = 0
        self.seconds = 0.0
        self.commands = 0
        self.filament: dict[int, float] = {}
        self.filament_total = 0.0
        self.nozzle_c = 0.0
        self.bed_c = 0.0
        self.low = [math.inf] * 3
        self.high = [-math.inf] * 3
        self.starts: list[tuple[float, int, float, float]] = []
        self.marks = [Mark(0, 0.0, 0.0)]
        self.unknown: dict[str, int] = {}
        self.moves = 0
        self.layer_z = -math.inf

    def take(self, command: bytes) -> None:
        words = parse_words(command)
        if "G" in words:
            handler = G_WORDS.get(int(words["G"] or 0))
        elif "M" in words:
            handler = M_WORDS.get(int(words["M"] or 0))
        else:
            handler = _Reader.choose_tool
        if handler is None:
            name = command.split()[0].decode("ascii", "replace").upper()
            self.unknown[name] = self.unknown.get(name, 0) + 1
        else:
            handler(self, words)
        self.commands += 1
        if self.seconds - self.marks[-1].planned_s >= MARK_EVERY_S:
            self.marks.append(Mark(self.commands, self.seconds, max(self.filament_total, self.marks[-1].filament_mm)))

    def move(self, w: dict[str, float | None]) -> None:
        delta = [0.0, 0.0, 0.0]
        target = list(self.position)
        for i, axis in enumerate("XYZ"):
            value = w.get(axis)
            if value is not None:
                value *= self.unit_mm
                target[i] = value if self.absolute else self.position[i] + value
                delta[i] = target[i] - self.position[i]
        de = 0.0
        e = w.get("E")
        if e is not None:
            e *= self.unit_mm
            de = e - self.e if self.absolute_e else e
            self.e += de
        feed = w.get("F")
        if feed:
            self.feed_mm_s = abs(feed) * self.unit_mm / 60
        self.moves += 1
        if de:
            self.filament[self.tool] = self.filament.get(self.tool, 0.0) + de
            self.filament_total += de
        if de > 0 and (delta[0] or delta[1]):
            self._lay(target)
        self.seconds += self.planner.move_s(delta[0], delta[1], delta[2], de, self.feed_mm_s)
        self.position = target

    def _lay(self, target: list[float]) -> None:
        if target[2] > self.layer_z + 1e-4 or target[2] < self.layer_z - 1e-4:
            self.layer_z = target[2]
            self.starts.append((target[2], self.commands, self.seconds, self.filament_total))
        for point in (self.position, target):
            for i in range(3):
                self.low[i] = min(self.low[i], point[i])
                self.high[i] = max(self.high[i], point[i])

    def home(self, w: dict[str, float | None]) -> None:
        named = [i for i, axis in enumerate("XYZ") if axis in w] or [0, 1, 2]
        for i in named:
            self.position[i] = 0.0
        self.planner.rest()

    def dwell(self, w: dict[str, float | None]) -> None:
        self.seconds += (w.get("S") or 0.0) + (w.get("P") or 0.0) / 1000
        self.planner.rest()

    def set_position(self, w: dict[str, float | None]) -> None:
        for i, axis in enumerate("XYZ"):
            value = w.get(axis)
            if value is not None:
                self.position[i] = value * self.unit_mm
        e = w.get("E")
        if e is not None:
            self.e = e * self.unit_mm

    def inches(self, w: dict[str, float | None]) -> None:
        self.unit_mm = 25.4 if w["G"] == 20 else 1.0

    def positioning(self, w: dict[str, float | None]) -> None:
        self.absolute = self.absolute_e = w["G"] == 90

    def extruder_mode(self, w: dict[str, float | None]) -> None:
        self.absolute_e = w["M"] == 82

    def choose_tool(self, w: dict[str, float | None]) -> None:
        self.tool = int(w.get("T") or 0)

    def nozzle(self, w: dict[str, float | None]) -> None:
        self.nozzle_c = max(self.nozzle_c, w.get("S") or w.get("R") or 0.0)
        self.planner.rest()

    def bed(self, w: dict[str, float | None]) -> None:
        self.bed_c = max(self.bed_c, w.get("S") or w.get("R") or 0.0)
        self.planner.rest()

    def nothing(self, w: dict[str, float | None]) -> None:
        pass

    def layers(self) -> tuple[Layer, ...]:
        if not self.starts:
            return ()
        ends = [*self.starts[1:], (0.0, self.commands, self.seconds, self.filament_total)]
        return tuple(
            Layer(z, first, end[2] - began, end[3] - fed)
            for (z, first, began, fed), end in zip(self.starts, ends, strict=True)
        )


_Handler = Callable[[_Reader, dict[str, float | None]], None]

G_WORDS: dict[int, _Handler] = {
    **dict.fromkeys((0, 1, 2, 3), _Reader.move),
    4: _Reader.dwell,
    **dict.fromkeys((20, 21), _Reader.inches),
    28: _Reader.home,
    **dict.fromkeys((90, 91), _Reader.positioning),
    92: _Reader.set_position,
}
M_WORDS: dict[int, _Handler] = {
    **dict.fromkeys((82, 83), _Reader.extruder_mode),
    **dict.fromkeys((104, 109), _Reader.nozzle),
    **dict.fromkeys((140, 190), _Reader.bed),
    **dict.fromkeys((17, 18, 73, 84, 105, 106, 107, 110, 117, 400), _Reader.nothing),
}


def split_lines(chunks: Iterable[bytes]) -> Iterator[tuple[bytes, bool]]:
    """Lines of a stream of bytes with whether each was closed by an end of line. Holds one line at most.

    Raises NotGcode for a line longer than any G-code has.
    """
    rest = b""
    for chunk in chunks:
        lines = (rest + chunk).split(b"\n")
        rest = lines.pop()
        for line in lines:
            yield line, True
        if len(rest) > LONGEST_LINE:
            raise NotGcode(f"A line runs over {LONGEST_LINE} characters, which no G-code has; is this a sliced file?")
    if rest:
        yield rest, False


def analyse(chunks: Iterable[bytes], model: MachineModel) -> Analysis:
    """Read a file's bytes, in pieces of any size, as `model` would run them.

    Raises NotGcode when the bytes are empty, hold no movement, are not G-code, or stop within a line.
    """
    reader = _Reader(model)
    number = unreadable = 0
    first_unreadable = ""
    for line, closed in split_lines(chunks):
        number += 1
        if b"\0" in line:
            raise NotGcode(f"Line {number} holds a zero byte: this is not a text file. Choose a sliced G-code file.")
        command = command_of(line)
        if not command:
            continue
        if not closed:
            _check_last_line(command, number)
        if not is_command(command):
            unreadable += 1
            first_unreadable = first_unreadable or f"line {number}: {line[:40].decode('utf-8', 'replace').strip()!r}"
            reader.commands += 1
            continue
        reader.take(command)
    if number == 0:
        raise NotGcode("The file is empty. Choose a sliced G-code file.")
    if unreadable > _UNREADABLE_SHARE * max(reader.commands, 1):
        raise NotGcode(f"This is not G-code ({first_unreadable}). Choose a sliced G-code file.")
    if reader.moves == 0:
        raise NotGcode("The file holds no movement (no G0 or G1). Choose a sliced G-code file.")
    reader.marks.append(Mark(reader.commands, reader.seconds, max(reader.filament_total, reader.marks[-1].filament_mm)))
    laid = reader.starts != []
    return Analysis(
        lines=number,
        commands=reader.commands,
        planned_s=reader.seconds,
        layers=reader.layers(),
        extents_mm=(_point(reader.low), _point(reader.high)) if laid else None,
        filament_mm=reader.filament,
        nozzle_c=reader.nozzle_c,
        bed_c=reader.bed_c,
        unknown=reader.unknown,
        plan=Plan(_rising(reader.marks), tuple(start[1] for start in reader.starts)),
    )


def _point(values: list[float]) -> tuple[float, float, float]:
    return values[0], values[1], values[2]


def _rising(marks: list[Mark]) -> tuple[Mark, ...]:
    """The marks without a last one that repeats the command count before it."""
    if len(marks) > 2 and marks[-1].command == marks[-2].command:
        del marks[-2]
    return tuple(marks)


def _check_last_line(command: bytes, number: int) -> None:
    """A last line with no end of line is whole only when it is not a move and every word has its number."""
    words = {} if takes_text(command) else parse_words(command)
    broken = not is_command(command) or words.get("G") in (0, 1, 2, 3)
    if broken or (len(words) > 1 and list(words.values())[-1] is None and "G" not in words):
        text = command[:40].decode("utf-8", "replace")
        raise NotGcode(f"The file stops within line {number} ({text!r}): it was cut short. Add the whole file.")
