"""What a machine says on its line link: each line it sends, read into one answer.

The kinds are those that firmwares taking check-summed lines share. What is not known is chatter: kept for the
log, otherwise ignored. docs/protocols/line-link.md is the description.
"""

from __future__ import annotations

import re
from dataclasses import dataclass


@dataclass(frozen=True)
class Ok:
    """The outstanding line is taken; with `number` where the machine says which."""

    number: int | None = None


@dataclass(frozen=True)
class Resend:
    """The machine wants line `number` next."""

    number: int


@dataclass(frozen=True)
class Busy:
    """Still at it: do not take the silence for a loss."""


@dataclass(frozen=True)
class Boot:
    """The machine has just started: its counts, modes and position are gone."""


@dataclass(frozen=True)
class Heat:
    """One report: measured and asked, °C, of nozzle, bed and chamber; None where it says nothing of that."""

    nozzle_c: float | None = None
    nozzle_asked_c: float | None = None
    bed_c: float | None = None
    bed_asked_c: float | None = None
    chamber_c: float | None = None
    chamber_asked_c: float | None = None


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
    """The machine itself asks for a pause."""


@dataclass(frozen=True)
class Fault:
    """The machine reports a fault but goes on listening."""

    text: str


@dataclass(frozen=True)
class Halted:
    """The machine has stopped itself and takes no more until hands see to it."""

    text: str


@dataclass(frozen=True)
class LineComplaint:
    """A line arrived damaged, or whole but `out_of_turn`; a `Resend` follows."""

    out_of_turn: bool = False


@dataclass(frozen=True)
class Chatter:
    text: str


Answer = (
    Ok | Resend | Busy | Boot | Heat | Position | FilamentOut | AskedPause | Fault | Halted | LineComplaint | Chatter
)

_NUMBER = r"[-+]?\d+(?:\.\d+)?"
_OK = re.compile(r"^ok(?:\s+N(\d+))?(?=\s+(?!N)|$)")
_RESEND = re.compile(r"^(?:resend|rs)\b:?\s*N?(\d+)\s*$", re.IGNORECASE)
_NOZZLE = re.compile(rf"\bT0?:\s*({_NUMBER}|nan)(?:\s*/\s*({_NUMBER}))?", re.IGNORECASE)
_BED = re.compile(rf"\bB:\s*({_NUMBER}|nan)(?:\s*/\s*({_NUMBER}))?", re.IGNORECASE)
_CHAMBER = re.compile(rf"\bC:\s*({_NUMBER}|nan)(?:\s*/\s*({_NUMBER}))?", re.IGNORECASE)
_POSITION = re.compile(rf"^X:\s*({_NUMBER})\s+Y:\s*({_NUMBER})\s+Z:\s*({_NUMBER})\b")
_LAST_LINE = re.compile(r"last line:?\s*\d+$")
_COMPLAINTS = {
    "checksum mismatch, last line: ": False,
    "line number is not last line number+1, last line: ": True,
    "line number is not the last line number + 1, last line: ": True,
    "no checksum with line number, last line: ": False,
    "no line number with checksum, last line: ": False,
}
"""What machines say of a damaged line, and of one out of turn (true)."""
ALIKE = 0.5
"""How like one of them a text must be, letter by letter: the complaint may itself have been damaged on its way."""
_RULES: tuple[tuple[re.Pattern[str], type], ...] = (
    (re.compile(r"^(?:echo:)?\s*busy\b", re.IGNORECASE), Busy),
    (re.compile(r"^start\b"), Boot),
    (re.compile(r"^//\s*action:\s*out_of_filament\b"), FilamentOut),
    (re.compile(r"^//\s*action:\s*pause\b"), AskedPause),
)


def _heat(line: str) -> Heat | None:
    nozzle, bed = _NOZZLE.search(line), _BED.search(line)
    if nozzle is None and bed is None:
        return None

    def values(found: re.Match[str] | None) -> tuple[float | None, float | None]:
        if found is None:
            return None, None
        return float(found[1]), float(found[2]) if found[2] else None

    return Heat(*values(nozzle), *values(bed), *values(_CHAMBER.search(line)))


def _complaint(text: str) -> LineComplaint | None:
    """The complaint about a line that a text is, as far as it arrived; None for another text."""
    arrived = text.lower()
    alike = {known: sum(map(str.__eq__, known, arrived)) / len(known) for known in _COMPLAINTS}
    most = max(alike, key=alike.__getitem__)
    if alike[most] >= ALIKE:
        return LineComplaint(_COMPLAINTS[most])
    return LineComplaint() if _LAST_LINE.search(arrived) else None


def read_answer(line: str) -> list[Answer]:
    """What one line from the machine says; an `ok` may carry a heat report, so there may be two answers."""
    line = line.strip()
    if not line:
        return []
    ok = _OK.match(line)
    heat = _heat(line)
    if ok:
        answer = Ok(int(ok[1]) if ok[1] else None)
        return [answer] if heat is None else [heat, answer]
    resend = _RESEND.match(line)
    if resend:
        return [Resend(int(resend[1]))]
    for pattern, kind in _RULES:
        if pattern.match(line):
            return [kind()]
    if line.startswith("!!"):
        return [Halted(line[2:].strip() or "no reason given")]
    if line.lower().startswith("error:"):
        text = line[6:].strip()
        return [_complaint(text) or Fault(text or "no reason given")]
    position = _POSITION.match(line)
    if position:
        return [Position(*(float(n) for n in position.groups()))]
    return [Chatter(line)] if heat is None else [heat]
