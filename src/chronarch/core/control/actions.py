"""What a person may have a machine do: each action, when it is allowed, its limits, and the commands it becomes.

The service checks an action before it sends it, and the tender checks it again before it carries it out; both use
`check`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import Enum, auto
from typing import Annotated, Any, Literal

from annotated_types import Len

from chronarch.core.bounds import Celsius, Counted, Figure, Mm, Percent, Word
from chronarch.core.errors import CoreError
from chronarch.core.gcode.vocabulary import LASTING_SETTINGS
from chronarch.core.machines.materials import USUAL_MATERIALS, Materials
from chronarch.core.machines.model import MachineModel, OwnSequence


class NotPossible(CoreError):
    """The action is outside the limits of the model, or not allowed now. The message says which."""


class NeedsConfirmation(NotPossible):
    """The action changes something that lasts beyond the build. It is possible once a person confirms it."""


class Activity(Enum):
    """What a machine is doing, as far as actions by hand are concerned."""

    FREE = auto()
    """No build is under way."""
    BUILDING = auto()
    PAUSED = auto()
    """A build is under way; it is paused and the head is parked."""


@dataclass(frozen=True)
class MachineSituation:
    """What `check` must know of a machine: `nozzle_c` as measured, and the position in mm once the axes are homed."""

    activity: Activity
    nozzle_c: float | None = None
    position_mm: tuple[float, float, float] | None = None
    laden: bool = False
    """Whether a part stands on the bed."""
    materials: Materials = USUAL_MATERIALS


@dataclass(frozen=True)
class Home:
    """Home the named axes, or all axes without a name."""

    axes: Word = ""
    kind: Literal["home"] = "home"


@dataclass(frozen=True)
class Move:
    """Move along each axis by so many mm, in the directions that a person in front of the machine sees. The model says
    which way that is for the motors."""

    x: Mm = 0.0
    y: Mm = 0.0
    z: Mm = 0.0
    kind: Literal["move"] = "move"


@dataclass(frozen=True)
class Feed:
    """Push (above 0) or pull (below 0) filament, mm."""

    mm: Mm
    kind: Literal["feed"] = "feed"


@dataclass(frozen=True)
class Adjust:
    """Set what is given: temperatures in °C, shares in %, and the z offset in mm from the file. None changes
    nothing."""

    nozzle_c: Celsius | None = None
    bed_c: Celsius | None = None
    chamber_c: Celsius | None = None
    speed_pct: Percent | None = None
    flow_pct: Percent | None = None
    fan_pct: Percent | None = None
    z_offset_mm: Mm | None = None
    kind: Literal["adjust"] = "adjust"


@dataclass(frozen=True)
class Preset:
    """Heat for a material. An empty name turns the heaters off."""

    material: Word = ""
    kind: Literal["preset"] = "preset"


@dataclass(frozen=True)
class Switch:
    """Turn one of the model's switches on or off."""

    name: Word
    on: bool
    kind: Literal["switch"] = "switch"


@dataclass(frozen=True)
class MotorsOff:
    kind: Literal["motors-off"] = "motors-off"


@dataclass(frozen=True)
class RunSequence:
    """Run one of the model's sequences, with values for its parameters."""

    sequence: Word
    values: Annotated[dict[Word, Figure], Len(0, 50)]
    kind: Literal["run"] = "run"


@dataclass(frozen=True)
class Filament:
    """One step of a filament change while a build is paused."""

    step: Literal["unload", "load", "purge"]
    kind: Literal["filament"] = "filament"


@dataclass(frozen=True)
class SendLine:
    """Send one line as a person wrote it. `sure` confirms a line that changes what the machine stores."""

    text: Annotated[str, Len(0, 1000)]
    sure: bool = False
    kind: Literal["line"] = "line"


@dataclass(frozen=True)
class MeasureBed:
    """Ask the machine how level its bed is. With `measure` it probes the bed anew first."""

    measure: bool = False
    kind: Literal["level-map"] = "level-map"


@dataclass(frozen=True)
class ReadSettings:
    """Ask the machine what it has stored: steps, speeds, accelerations, heaters' figures."""

    kind: Literal["settings"] = "settings"


@dataclass(frozen=True)
class AnswerPrompt:
    """Answer a question of the machine itself with the number of one of its choices, from 0."""

    choice: Counted
    kind: Literal["answer"] = "answer"


Action = (
    Home
    | Move
    | Feed
    | Adjust
    | Preset
    | Switch
    | MotorsOff
    | RunSequence
    | Filament
    | SendLine
    | MeasureBed
    | ReadSettings
    | AnswerPrompt
)

_FREE = frozenset({Activity.FREE})
_STANDING = frozenset({Activity.FREE, Activity.PAUSED})
_ANY = frozenset(Activity)

ALLOWED: dict[type, frozenset[Activity]] = {
    Home: _FREE,
    Move: _FREE,
    Feed: _STANDING,
    Adjust: _ANY,
    Preset: _FREE,
    Switch: _ANY,
    MotorsOff: _FREE,
    RunSequence: _FREE,
    Filament: frozenset({Activity.PAUSED}),
    SendLine: _ANY,
    MeasureBed: _FREE,
    ReadSettings: _FREE,
    AnswerPrompt: _ANY,
}
"""When each action is allowed. While a build runs, everything is locked except what is meant for a running build."""

FURTHEST_MOVE_MM = 500.0
MOST_FEED_MM = 200.0
FEED_MM_MIN = 240
LINE_LENGTH = 96
SPEED_PCT, FLOW_PCT = (10.0, 300.0), (50.0, 150.0)

_BELONGS_TO_FEEDING = re.compile(r"^\s*(N\d|M110\b|M112\b|M108\b|M410\b|M999\b)", re.IGNORECASE)
_MOVES = re.compile(
    r"^\s*(G0?[0-3]|G28|G29|G92|G9[01]|M8[23]|T\d+|M18|M84|M400|G4|M0|M1|M2[0-9]|M32|M600)\b", re.IGNORECASE
)


def check(action: Action, model: MachineModel, at: MachineSituation) -> list[bytes]:
    """The commands that an action becomes for such a machine now. Raises NotPossible."""
    if at.activity not in ALLOWED[type(action)]:
        when = {
            Activity.BUILDING: "while a build runs; pause or stop it first",
            Activity.PAUSED: "while a build stands paused",
            Activity.FREE: "unless a build is paused",
        }[at.activity]
        raise NotPossible(f"That cannot be done {when}.")
    return _MAKERS[type(action)](action, model, at)


def _within(value: float, least: float, most: float, what: str, unit: str) -> float:
    if not least <= value <= most:
        raise NotPossible(f"{what} {value:g} {unit} is out of bounds: {least:g} to {most:g} {unit} is possible.")
    return value


def _home(a: Home, model: MachineModel, at: MachineSituation) -> list[bytes]:
    axes = a.axes.upper()
    if set(axes) - set("XYZ"):
        raise NotPossible(f"There is no axis {', '.join(sorted(set(axes) - set('XYZ')))}; name x, y or z.")
    if at.laden and (not axes or "Z" in axes):
        raise NotPossible("A part stands on the bed, and homing Z would run into it; clear the bed, or home x and y.")
    return [b" ".join([b"G28", *(c.encode() for c in axes)])]


def _move(a: Move, model: MachineModel, at: MachineSituation) -> list[bytes]:
    by = (a.x, a.y, a.z)
    if not any(by):
        raise NotPossible("Say by how much: x, y or z, in mm.")
    words = []
    for n, (axis, mm) in enumerate(zip("XYZ", by, strict=True)):
        if not mm:
            continue
        _within(mm, -FURTHEST_MOVE_MM, FURTHEST_MOVE_MM, f"a move along {axis} of", "mm")
        toward = -mm if axis in model.reversed_axes.upper() else mm
        if at.position_mm is not None:
            _within(at.position_mm[n] + toward, 0.0, model.volume_mm[n], f"{axis} would be", "mm")
        words.append(f"{axis}{toward:g}")
    if at.laden and a.z < 0:
        raise NotPossible("A part stands on the bed; the head does not go down onto it. Clear the bed first.")
    feed = 600 if a.z else 6000
    return [b"G91", f"G1 {' '.join(words)} F{feed}".encode(), b"G90", b"M400"]


def _feed(a: Feed, model: MachineModel, at: MachineSituation) -> list[bytes]:
    _within(a.mm, -MOST_FEED_MM, MOST_FEED_MM, "filament of", "mm")
    _warm_enough(model, at)
    return [b"M83", f"G1 E{a.mm:g} F{FEED_MM_MIN}".encode(), b"M82", b"M400"]


def _warm_enough(model: MachineModel, at: MachineSituation) -> None:
    least = model.cold_extrusion_c
    if at.nozzle_c is None and least > 0:
        raise NotPossible("The machine has not yet told how warm its nozzle is; try again in a moment.")
    if at.nozzle_c is not None and at.nozzle_c < least:
        raise NotPossible(f"The nozzle is {at.nozzle_c:.0f} °C; filament moves from {least:g} °C on. Heat it first.")


def _adjust(a: Adjust, model: MachineModel, at: MachineSituation) -> list[bytes]:
    out: list[bytes] = []
    for value, least, most, what, unit, write in (
        (a.nozzle_c, 0.0, model.nozzle_ceiling_c, "nozzle", "°C", "M104 S{:g}"),
        (a.bed_c, 0.0, model.bed_ceiling_c, "bed", "°C", "M140 S{:g}"),
        (a.chamber_c, 0.0, model.chamber_ceiling_c, "chamber", "°C", "M141 S{:g}"),
        (a.speed_pct, *SPEED_PCT, "speed", "%", "M220 S{:g}"),
        (a.flow_pct, *FLOW_PCT, "flow", "%", "M221 S{:g}"),
    ):
        if value is not None:
            out.append(write.format(_within(value, least, most, what, unit)).encode())
    if a.fan_pct is not None:
        out.append(b"M106 S%d" % int(_within(a.fan_pct, 0, 100, "fan", "%") * 255 / 100 + 0.5))
    if a.z_offset_mm is not None:
        _within(a.z_offset_mm, -model.z_offset_mm, model.z_offset_mm, "z offset", "mm")
        if at.activity is Activity.FREE:
            raise NotPossible("A z offset is set while a build runs, to see what it does; none is running.")
        out.append(b"")  # the step depends on the present offset; `offset_step` makes it
    if not out:
        raise NotPossible("Say what is to be set: nozzle, bed, chamber, speed, flow, fan or z offset.")
    return [c for c in out if c]


def offset_step(mm: float) -> bytes:
    """Raise (above 0) or lower the nozzle by a small step without changing the coordinates."""
    return f"M290 Z{mm:.3f}".encode()


def _preset(a: Preset, model: MachineModel, at: MachineSituation) -> list[bytes]:
    if not a.material:
        return [b"M104 S0", b"M140 S0"]
    material = at.materials.get(a.material)
    if material is None:
        raise NotPossible(f"There is no preset for {a.material!r}; there are {', '.join(at.materials)}.")
    nozzle = _within(material.nozzle_c, 0, model.nozzle_ceiling_c, "nozzle", "°C")
    bed = _within(material.bed_c, 0, model.bed_ceiling_c, "bed", "°C")
    return [f"M104 S{nozzle:g}".encode(), f"M140 S{bed:g}".encode()]


def _switch(a: Switch, model: MachineModel, at: MachineSituation) -> list[bytes]:
    for switch in model.switches:
        if switch.name.lower() == a.name.lower():
            return check_lines(switch.on if a.on else switch.off, switch.name)
    names = ", ".join(s.name for s in model.switches) or "none"
    raise NotPossible(f"{model.name} has no switch {a.name!r}; it has: {names}.")


def check_lines(text: str, whose: str, *, lasting: bool = False) -> list[bytes]:
    """The commands in a text that a person wrote for a machine. Raises NotPossible for words that only the feeding may
    send and, unless `lasting` allows them, for words whose effect outlasts a build."""
    out = []
    for line in text.splitlines():
        command = line.split(";")[0].strip()
        if not command:
            continue
        if not command.isascii() or not command.isprintable() or len(command) > LINE_LENGTH:
            raise NotPossible(f"{whose}: {command[:40]!r} is not one line of at most {LINE_LENGTH} plain characters.")
        if "*" in command or _BELONGS_TO_FEEDING.match(command):
            raise NotPossible(f"{whose}: {command[:40]!r} belongs to the feeding; leave it out.")
        word = command.split()[0].upper()
        if word in LASTING_SETTINGS and not lasting:
            raise NotPossible(
                f"{whose}: {word} {LASTING_SETTINGS[word]}, and that lasts; only a guarded sequence may do that."
            )
        out.append(command.encode())
    return out


def find_sequence(model: MachineModel, name: str) -> OwnSequence:
    """A sequence by name. Raises NotPossible."""
    for sequence in model.sequences:
        if sequence.name.lower() == name.lower():
            return sequence
    names = ", ".join(s.name for s in model.sequences) or "none"
    raise NotPossible(f"{model.name} has no sequence {name!r}; it has: {names}.")


def _run(a: RunSequence, model: MachineModel, at: MachineSituation) -> list[bytes]:
    sequence = find_sequence(model, a.sequence)
    known = {p.name: p for p in sequence.parameters}
    for name in a.values:
        if name not in known:
            raise NotPossible(f"{sequence.name} has no parameter {name!r}; it has: {', '.join(known) or 'none'}.")
    values = {
        p.name: _within(a.values.get(p.name, p.usual), p.least, p.most, p.name, p.unit) for p in sequence.parameters
    }
    if at.laden and sequence.clear_bed:
        raise NotPossible(f"A part stands on the bed; {sequence.name} needs it clear.")
    text = sequence.lines
    for name, value in values.items():
        text = text.replace("{" + name + "}", f"{value:g}")
    return check_lines(text, sequence.name, lasting=sequence.guarded)


def check_model(model: MachineModel) -> None:
    """Check the sequences and switches of a model. Raises NotPossible for words that they may not contain."""
    for switch in model.switches:
        check_lines(f"{switch.on}\n{switch.off}", f"The switch {switch.name}")
    for sequence in model.sequences:
        text = sequence.lines
        for parameter in sequence.parameters:
            text = text.replace("{" + parameter.name + "}", f"{parameter.usual:g}")
        check_lines(text, f"The sequence {sequence.name}", lasting=sequence.guarded)


def _filament(a: Filament, model: MachineModel, at: MachineSituation) -> list[bytes]:
    _warm_enough(model, at)
    moves: dict[str, Sequence[str]] = {
        "unload": (f"G1 E{model.purge_mm / 3:g} F{FEED_MM_MIN}", f"G1 E-{model.filament_path_mm:g} F1500"),
        "load": (f"G1 E{model.filament_path_mm:g} F600",),
        "purge": (f"G1 E{model.purge_mm:g} F{FEED_MM_MIN}", "G1 E-2 F2400"),
    }
    return [b"M83", *(m.encode() for m in moves[a.step]), b"M400"]


def _line(a: SendLine, model: MachineModel, at: MachineSituation) -> list[bytes]:
    text = a.text.split(";")[0].strip()
    if not text or not text.isascii() or not text.isprintable() or len(text) > LINE_LENGTH:
        raise NotPossible(f"Write one line of at most {LINE_LENGTH} plain characters, as in M105.")
    if "*" in text or _BELONGS_TO_FEEDING.match(text):
        raise NotPossible("Line numbers, checksums, M108, M110 and M112 belong to the feeding; use the stops.")
    if at.activity is not Activity.FREE and _MOVES.match(text):
        raise NotPossible(f"{text.split()[0]} would upset the build that is under way; it can be sent when none is.")
    word = text.split()[0].upper()
    if word in LASTING_SETTINGS and not a.sure:
        raise NeedsConfirmation(f"{word} {LASTING_SETTINGS[word]}, and that lasts. Is it meant?")
    return [text.encode()]


def _level_map(a: MeasureBed, model: MachineModel, at: MachineSituation) -> list[bytes]:
    if not a.measure:
        return [b"M420 V"]
    if at.laden:
        raise NotPossible("A part stands on the bed, and probing would run into it; clear the bed first.")
    return [b"G28", b"G29", b"M420 V"]


def _settings(a: ReadSettings, model: MachineModel, at: MachineSituation) -> list[bytes]:
    return [b"M503"]


def _motors_off(a: MotorsOff, model: MachineModel, at: MachineSituation) -> list[bytes]:
    return [b"M84"]


def _answer(a: AnswerPrompt, model: MachineModel, at: MachineSituation) -> list[bytes]:
    return []  # it is sent without a number, because the machine takes no numbered line while it asks


_MAKERS: dict[type, Callable[[Any, MachineModel, MachineSituation], list[bytes]]] = {
    Home: _home,
    Move: _move,
    Feed: _feed,
    Adjust: _adjust,
    Preset: _preset,
    Switch: _switch,
    MotorsOff: _motors_off,
    RunSequence: _run,
    Filament: _filament,
    SendLine: _line,
    MeasureBed: _level_map,
    ReadSettings: _settings,
    AnswerPrompt: _answer,
}
