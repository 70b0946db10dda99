"""Where a machine is after a run of commands: position, extruder, feed rate, modes, and what is asked of each heater
and fan."""

from __future__ import annotations

from dataclasses import dataclass, field

from chronarch.core.gcode.tokens import parse_words

INCH_MM = 25.4
_AXES = ("x", "y", "z")


@dataclass
class ModalState:
    """The machine's modes and position as its commands leave them. Lengths in mm and feed rate in mm/min whatever the
    file's unit is; positions as the file counts them."""

    x: float = 0.0
    y: float = 0.0
    z: float = 0.0
    e: float = 0.0
    feed_mm_min: float = 0.0
    inches: bool = False
    absolute: bool = True
    absolute_e: bool = True
    tool: int = 0
    nozzles_c: dict[int, float] = field(default_factory=dict)
    """What is asked of each tool's nozzle, °C."""
    bed_asked_c: float = 0.0
    chamber_asked_c: float = 0.0
    fans: dict[int, float] = field(default_factory=dict)
    """How fast each fan is asked to turn, 0 to 255."""
    shift_mm: tuple[float, float, float] = (0.0, 0.0, 0.0)
    """What a position as the file counts it (after G92) lacks to one from the machine's own origin."""

    def apply(self, command: bytes) -> None:
        """Take one command's effect."""
        if command[:3] in (b"G1 ", b"G0 ") and self._plain_move(command):
            return
        w = parse_words(command)
        g, m = w.get("G"), w.get("M")
        if g is not None:
            self._motion(g, w)
        elif m is not None:
            self._other(m, w)
        elif w.get("T") is not None and command[:1] in (b"T", b"t"):
            self.tool = int(w["T"] or 0)

    def _motion(self, g: float, w: dict[str, float | None]) -> None:
        if g in (0, 1, 2, 3, 5):
            self._move(w)
        elif g in (20, 21):
            self.inches = g == 20
        elif g == 28:
            named = [a for a in "XYZ" if a in w] or ["X", "Y", "Z"]
            for axis in named:
                setattr(self, axis.lower(), 0.0)
            self.shift_mm = tuple(  # type: ignore[assignment]
                0.0 if a.upper() in named else s for a, s in zip(_AXES, self.shift_mm, strict=True)
            )
        elif g in (90, 91):
            self.absolute = self.absolute_e = g == 90
        elif g == 92:
            before = (self.x, self.y, self.z)
            for axis in "XYZE":
                value = w.get(axis)
                if value is not None:
                    setattr(self, axis.lower(), value * self._unit)
            after = (self.x, self.y, self.z)
            self.shift_mm = tuple(  # type: ignore[assignment]
                s + b - a for s, b, a in zip(self.shift_mm, before, after, strict=True)
            )

    def _other(self, m: float, w: dict[str, float | None]) -> None:
        value, either = w.get("S"), w.get("S", w.get("R"))
        if m in (82, 83):
            self.absolute_e = m == 82
        elif m == 104 and value is not None:
            self.nozzles_c[self._tool_of(w)] = value
        elif m == 109 and either is not None:
            self.nozzles_c[self._tool_of(w)] = either
        elif m == 140 and value is not None:
            self.bed_asked_c = value
        elif m == 190 and either is not None:
            self.bed_asked_c = either
        elif m == 141 and value is not None:
            self.chamber_asked_c = value
        elif m == 191 and either is not None:
            self.chamber_asked_c = either
        elif m in (106, 107):
            self.fans[int(w.get("P") or 0)] = 0.0 if m == 107 else 255.0 if value is None else value

    def _tool_of(self, w: dict[str, float | None]) -> int:
        named = w.get("T")
        return self.tool if named is None else int(named)

    @property
    def _unit(self) -> float:
        return INCH_MM if self.inches else 1.0

    def _plain_move(self, command: bytes) -> bool:
        """A straight move written as nearly all are, in absolute millimetres; else False, and nothing is done."""
        if not self.absolute or self.inches:
            return False
        x, y, z, e, feed = self.x, self.y, self.z, self.e, self.feed_mm_min
        try:
            for word in command[3:].split():
                value = float(word[1:])
                letter = word[:1]
                if letter == b"X":
                    x = value
                elif letter == b"Y":
                    y = value
                elif letter == b"E":
                    e = value if self.absolute_e else e + value
                elif letter == b"F":
                    feed = value or feed
                elif letter == b"Z":
                    z = value
                else:
                    return False
        except ValueError:
            return False
        self.x, self.y, self.z, self.e, self.feed_mm_min = x, y, z, e, feed
        return True

    def _move(self, w: dict[str, float | None]) -> None:
        for axis in "XYZ":
            value = w.get(axis)
            if value is not None:
                name = axis.lower()
                value *= self._unit
                setattr(self, name, value if self.absolute else getattr(self, name) + value)
        e, f = w.get("E"), w.get("F")
        if e is not None:
            e *= self._unit
            self.e = e if self.absolute_e else self.e + e
        if f:
            self.feed_mm_min = f * self._unit
