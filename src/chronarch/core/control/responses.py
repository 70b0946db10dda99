"""What a machine says on its line link: each line it sends, read into one answer.

The kinds are those that firmwares taking check-summed lines share. What is not known is chatter: kept for the
log, otherwise ignored. docs/protocols/line-link.md is the description.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class Accepted:
    """The outstanding line is taken; with `number` where the machine says which."""

    number: int | None = None


@dataclass(frozen=True)
class Resend:
    """The machine wants line `number` next."""

    number: int


@dataclass(frozen=True)
class Busy:
    """The machine is still busy: its silence is no loss."""


@dataclass(frozen=True)
class Restarted:
    """The machine has just started: its counts, modes and position are lost."""


@dataclass(frozen=True)
class Temperatures:
    """One report: measured and asked, °C, of nozzle, bed and chamber; None where it says nothing of that. `further`:
    what else the machine measures, by the sensor's name; a machine with several hot ends names each (T0, T1, ...)."""

    nozzle_c: float | None = None
    nozzle_asked_c: float | None = None
    bed_c: float | None = None
    bed_asked_c: float | None = None
    chamber_c: float | None = None
    chamber_asked_c: float | None = None
    further: tuple[tuple[str, float | None, float | None], ...] = ()


@dataclass(frozen=True)
class Position:
    """Where the head is, mm."""

    x: float
    y: float
    z: float


@dataclass(frozen=True)
class FilamentOut:
    """The machine's sensor sees no filament."""


@dataclass(frozen=True)
class AskedPause:
    """The machine asks to be paused."""


@dataclass(frozen=True)
class AskedResume:
    """Somebody at the machine asks to go on."""


@dataclass(frozen=True)
class AskedCancel:
    """Somebody at the machine asks to end the build."""


@dataclass(frozen=True)
class WaitsForPerson:
    """The machine has paused itself and waits for a person; `text` is what it says of that."""

    text: str


@dataclass(frozen=True)
class Continued:
    """The machine says that it goes on by itself."""


@dataclass(frozen=True)
class Prompt:
    """One piece of a question that the machine puts to a person: its text, one choice, that it is complete, its end."""

    piece: Literal["begin", "choice", "show", "end"]
    text: str = ""


@dataclass(frozen=True)
class FaultReported:
    """The machine reports a fault but goes on listening."""

    text: str


@dataclass(frozen=True)
class Halted:
    """The machine has stopped itself and takes nothing more until a person sees to it."""

    text: str


@dataclass(frozen=True)
class LineComplaint:
    """A line arrived damaged, or whole but `out_of_turn`; a `Resend` follows."""

    out_of_turn: bool = False


@dataclass(frozen=True)
class OtherText:
    text: str


Response = (
    Accepted
    | Resend
    | Busy
    | Restarted
    | Temperatures
    | Position
    | FilamentOut
    | AskedPause
    | AskedResume
    | AskedCancel
    | WaitsForPerson
    | Continued
    | Prompt
    | FaultReported
    | Halted
    | LineComplaint
    | OtherText
)

_NUMBER = r"[-+]?\d{1,9}(?:\.\d{1,20})?(?!\d)"
"""A number as machines write it; longer ones are noise."""
_OK = re.compile(r"^ok(?:\s+N?(\d+))?(?=\s+(?![N\d])|$)", re.IGNORECASE)
_RESEND = re.compile(r"^(?:resend|rs)\b:?\s*N?(\d+)\s*$", re.IGNORECASE)
_NOZZLE = re.compile(rf"\bT0?:\s*({_NUMBER}|nan)(?:\s*/\s*({_NUMBER}))?", re.IGNORECASE)
_BED = re.compile(rf"\bB:\s*({_NUMBER}|nan)(?:\s*/\s*({_NUMBER}))?", re.IGNORECASE)
_CHAMBER = re.compile(rf"\bC:\s*({_NUMBER}|nan)(?:\s*/\s*({_NUMBER}))?", re.IGNORECASE)
_FURTHER = re.compile(
    rf"(?<![\w@])(T\d|[AMPRL]|[A-Z][A-Z_]{{2,19}}):\s*({_NUMBER}|nan)(?:\s*/\s*({_NUMBER}))?", re.IGNORECASE
)
_SENSORS = {"a": "ambient", "m": "board", "p": "probe", "r": "second sensor", "l": "cooler"}
"""The sensors that firmwares name by one letter. Longer names are shown as they come; two letters may be damage."""
MOST_SENSORS = 12
_POSITION = re.compile(rf"^X:\s*({_NUMBER})\s+Y:\s*({_NUMBER})\s+Z:\s*({_NUMBER})\b")
_LAST_LINE = re.compile(r"last line:?\s*\d+$")
_OF_A_LINE = re.compile(r"\bchecksum\b|\bcrc\b|\bline (?:number|no)\b|\bbad line\b|\bexpected (?:line )?n?\d+")
"""What other complaints about a line have in common, for when the request for the line that follows is lost."""
_COMPLAINTS = {
    "checksum mismatch, last line: ": False,
    "line number is not last line number+1, last line: ": True,
    "line number is not the last line number + 1, last line: ": True,
    "no checksum with line number, last line: ": False,
    "no line number with checksum, last line: ": False,
}
"""What machines say of a damaged line, and of one out of turn (true)."""
ALIKE = 0.5
"""How similar to a known complaint a text must be, letter by letter: the complaint itself may be damaged."""
_PREFIX = r"^(?:echo:|error:|//|!!)?\s*"
_RULES: tuple[tuple[re.Pattern[str], Response | None], ...] = tuple(
    (re.compile(pattern, re.IGNORECASE), answer)
    for pattern, answer in (
        (_PREFIX + r"busy:\s*paused for (?:user|input)\b", WaitsForPerson("paused for user")),
        (_PREFIX + r"busy\b", Busy()),
        (r"^wait$", None),
        (r"^start\b", Restarted()),
        (_PREFIX + r"(?:power ?up|(?:external|brown ?out|watchdog|software) reset)\b", Restarted()),
        (_PREFIX + r"[\w ]+ state:? ready\b", Restarted()),
        (
            r"^(?:echo:|error:|//|!!).*\bfilament\b(?:(?!sensor|detect).){0,30}?"
            r"\b(?:ran out|run ?out(?!:| ?(?:on|off|sensor|detection)\b)|is out|empty|missing|not (?:present|found))",
            FilamentOut(),
        ),
    )
)
"""What a whole line says, by the first that fits; None is a line that says nothing."""

_ACTION = re.compile(r"^//\s*action:\s*(\w+)\s*(.*)$", re.IGNORECASE)
_ACTIONS: dict[str, Callable[[str], Response]] = {
    "out_of_filament": lambda text: FilamentOut(),
    "filament_runout": lambda text: FilamentOut(),
    "pause": lambda text: AskedPause(),
    "paused": lambda text: WaitsForPerson(text or "paused at the machine"),
    "resume": lambda text: AskedResume(),
    "resumed": lambda text: Continued(),
    "cancel": lambda text: AskedCancel(),
    "prompt_begin": lambda text: Prompt("begin", text),
    "prompt_button": lambda text: Prompt("choice", text),
    "prompt_choice": lambda text: Prompt("choice", text),
    "prompt_show": lambda text: Prompt("show"),
    "prompt_end": lambda text: Prompt("end"),
}
"""What a machine asks of its host in a comment."""

UNKNOWN = re.compile(
    r"\b(?:unknown|bad|unsupported|unrecogni[sz]ed|invalid) (?:command|code|[gm]-?code|word)\b", re.IGNORECASE
)
"""How machines say that they do not know a command."""

_STOPPED = re.compile(
    r"\b(?:halted|killed|kill\(\)|system stopped|shut ?down|stopped due to|emergency stop|thermal runaway"
    r"|(?:max|min) ?temp(?:erature)? (?:triggered|error)|heating failed)\b",
    re.IGNORECASE,
)
"""Words of a fault after which a machine takes nothing more."""


def _heat(line: str) -> Temperatures | None:
    nozzle, bed = _NOZZLE.search(line), _BED.search(line)
    if nozzle is None and bed is None:
        return None

    def values(found: re.Match[str] | None) -> tuple[float | None, float | None]:
        if found is None:
            return None, None
        *_, measured, asked = found.groups()
        return float(measured), float(asked) if asked else None

    further = {_sensor(found[1]): values(found) for found in _FURTHER.finditer(line)}
    if "T1" not in further:
        further.pop("T0", None)  # the only hot end, which is the nozzle
    named = tuple((name, *value) for name, value in list(further.items())[:MOST_SENSORS])
    return Temperatures(*values(nozzle), *values(bed), *values(_CHAMBER.search(line)), named)


def _sensor(word: str) -> str:
    if word[1:].isdigit():
        return word.upper()
    return _SENSORS.get(word.lower(), word.lower().replace("_", " ").strip())


def _complaint(text: str) -> LineComplaint | None:
    """The complaint about a line that a text contains, as far as it arrived; None for another text."""
    arrived = text.lower()
    alike = {known: sum(map(str.__eq__, known, arrived)) / len(known) for known in _COMPLAINTS}
    most = max(alike, key=alike.__getitem__)
    if alike[most] >= ALIKE:
        return LineComplaint(_COMPLAINTS[most])
    return LineComplaint() if _LAST_LINE.search(arrived) or _OF_A_LINE.search(arrived) else None


_HEADS = ("ok", "resend: ", "error:", "echo:unknown command")


def is_garbled(text: str) -> bool:
    """Whether a text looks like an answer that was damaged on its way: half of its letters, not all, are those of
    one."""
    arrived = text.lower()
    if len(arrived) == 2:
        return sum(map(str.__eq__, arrived, "ok")) == 1
    heads = (head for head in _HEADS if len(head) > 2)
    return any(ALIKE <= sum(map(str.__eq__, arrived, head)) / len(head) < 1 for head in heads)


def read_answer(line: str) -> list[Response]:
    """What one line from the machine says; an `ok` may carry a heat report, so there may be two answers."""
    line = line.strip()
    if not line:
        return []
    ok = _OK.match(line)
    heat = _heat(line)
    if ok:
        answer = Accepted(int(ok[1]) if ok[1] else None)
        return [answer] if heat is None else [heat, answer]
    resend = _RESEND.match(line)
    if resend:
        return [Resend(int(resend[1]))]
    for pattern, said in _RULES:
        if pattern.match(line):
            return [] if said is None else [said]
    action = _ACTION.match(line)
    if action and action[1].lower() in _ACTIONS:
        return [_ACTIONS[action[1].lower()](action[2].strip())]
    if line.startswith("!!"):
        return [Halted(line[2:].strip() or "no reason given")]
    if line.lower().startswith("error:"):
        text = line[6:].strip()
        if UNKNOWN.search(text):
            return [OtherText(line)]
        complaint = _complaint(text)
        if complaint is not None:
            return [complaint]
        return [Halted(text) if _STOPPED.search(text) else FaultReported(text or "no reason given")]
    position = _POSITION.match(line)
    if position:
        return [Position(*(float(n) for n in position.groups()))]
    return [OtherText(line)] if heat is None else [heat]
