"""Where a machine is after a run of commands: position, extruder, feed rate and modes."""

from __future__ import annotations

from dataclasses import dataclass

from chronarch.core.gcode.words import parse_words


@dataclass
class ModalState:
    """The machine's modes and position as its commands leave them. mm; feed rate in mm/min."""

    x: float = 0.0
    y: float = 0.0
    z: float = 0.0
    e: float = 0.0
    feed_mm_min: float = 0.0
    absolute: bool = True
    absolute_e: bool = True
    nozzle_asked_c: float = 0.0
    bed_asked_c: float = 0.0
    fan: float = 0.0

    def apply(self, command: bytes) -> None:
        """Take one command's effect."""
        if command[:3] in (b"G1 ", b"G0 ") and self._plain_move(command):
            return
        w = parse_words(command)
        g, m = w.get("G"), w.get("M")
        if g is not None:
            if g in (0, 1, 2, 3):
                self._move(w)
            elif g == 28:
                named = [a for a in "XYZ" if a in w] or ["X", "Y", "Z"]
                for axis in named:
                    setattr(self, axis.lower(), 0.0)
            elif g in (90, 91):
                self.absolute = self.absolute_e = g == 90
            elif g == 92:
                for axis in "XYZE":
                    value = w.get(axis)
                    if value is not None:
                        setattr(self, axis.lower(), value)
        elif m is not None:
            value = w.get("S")
            if m in (82, 83):
                self.absolute_e = m == 82
            elif m in (104, 109) and value is not None:
                self.nozzle_asked_c = value
            elif m in (140, 190) and value is not None:
                self.bed_asked_c = value
            elif m == 106:
                self.fan = 255.0 if value is None else value
            elif m == 107:
                self.fan = 0.0

    def _plain_move(self, command: bytes) -> bool:
        """A straight move written as nearly all are, in absolute coordinates; else False, and nothing is done."""
        if not self.absolute:
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
                setattr(self, name, value if self.absolute else getattr(self, name) + value)
        e, f = w.get("E"), w.get("F")
        if e is not None:
            self.e = e if self.absolute_e else self.e + e
        if f:
            self.feed_mm_min = f
