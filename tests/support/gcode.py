"""Small files for tests, and what a machine should have run of them, worked out apart from the product's own code."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path


def squares(
    layers: int = 3, rounds: int = 4, side: float = 40.0, feed: int = 6000, nozzle: int = 60, bed: int = 0
) -> str:
    """Square walls, `rounds` a layer, that a 220 mm bed holds; mm and mm/min. Comments and blank lines between."""
    out = ["; a test piece", "G21", "G90 ; absolute", "M82", ""]
    if bed:
        out.append(f"M140 S{bed}")
    out += [f"M104 S{nozzle}", "G28", *([f"M190 S{bed}"] if bed else []), f"M109 S{nozzle}", "G92 E0"]
    e = 0.0
    for n in range(layers):
        out += [f"; layer {n + 1}", f"G1 Z{0.2 * (n + 1):.2f} F900"]
        for r in range(rounds):
            half = side / 2 - 0.4 * (r % 10)
            for k, (x, y) in enumerate(((-half, -half), (half, -half), (half, half), (-half, half), (-half, -half))):
                if k == 0:
                    out.append(f"G0 X{110 + x:.3f} Y{110 + y:.3f} F{feed}")
                else:
                    e += side * 0.03
                    out.append(f"G1 X{110 + x:.3f} Y{110 + y:.3f} E{e:.5f} F{feed}")
    out += ["M104 S0", "M140 S0", "M84"]
    return "\n".join(out) + "\n"


def commands(text: str) -> list[str]:
    """The commands a machine should run, in order."""
    bare = (re.sub(r";.*", "", line).strip() for line in text.splitlines())
    return [line for line in bare if line]


def executed_sha256(text: str) -> str:
    """The hash of those commands, as a stand-in records it."""
    return hashlib.sha256("\n".join(commands(text)).encode()).hexdigest()


def write(folder: Path, name: str, text: str) -> Path:
    path = folder / name
    path.write_text(text)
    return path


def laid(text: str) -> list[tuple[float, float, float, float, float, float]]:
    """What a file lays, followed word by word in plain Python: (x0, y0, x1, y1, z, mm of filament) of each line."""
    at = {"X": 0.0, "Y": 0.0, "Z": 0.0, "E": 0.0}
    absolute = absolute_e = True
    found = []
    for line in commands(text):
        words = {w[0].upper(): float(w[1:] or 0) for w in re.findall(r"[A-Za-z]-?[\d.]*", line)}
        code = line.split()[0].upper()
        if code in ("G90", "G91"):
            absolute = absolute_e = code == "G90"
        elif code in ("M82", "M83"):
            absolute_e = code == "M82"
        elif code == "G92":
            at.update({k: v for k, v in words.items() if k in at})
        elif code == "G28":
            at.update({k: 0.0 for k in "XYZ" if k in words or not set("XYZ") & set(words)})
        elif code in ("G0", "G1"):
            before = dict(at)
            for k in "XYZ":
                if k in words:
                    at[k] = words[k] if absolute else at[k] + words[k]
            fed = (words["E"] - at["E"] if absolute_e else words["E"]) if "E" in words else 0.0
            at["E"] += fed
            if fed > 0 and (at["X"], at["Y"]) != (before["X"], before["Y"]):
                row = (before["X"], before["Y"], at["X"], at["Y"], at["Z"], fed)
                found.append(tuple(round(v, 3) for v in row))
    return found  # type: ignore[return-value]


def two_boxes(layers: int = 4, marked: bool = True, relative_e: bool = False) -> str:
    """Two boxes side by side with retractions between them, a prime line before, and an end section."""
    out = ["; two boxes", "M486 T2", "G21", "G90", "M83" if relative_e else "M82", "M140 S60", "M104 S205", "G28"]
    out += ["M190 S60", "M109 S205", "G92 E0", "G1 Z0.2 F600", "G1 X5 Y10 F6000", "G1 X5 Y60 E4 F1200", "G92 E0"]
    e = 0.0

    def feed(by: float) -> str:
        nonlocal e
        e += by
        return f"E{by:.5f}" if relative_e else f"E{e:.5f}"

    for n in range(layers):
        out.append(f"G1 Z{0.2 * (n + 1):.2f} F600")
        if n == 1:
            out.append("M106 S200")
        for k, left in enumerate((60.0, 120.0)):
            if marked:
                out.append(f"M486 S{k}")
                if n == 0:
                    out.append(f'M486 A"box {k + 1}"')
            out += [f"G1 {feed(-0.8)} F2400", f"G0 X{left:.3f} Y80.000 F9000", f"G1 {feed(0.8)} F2400", ";TYPE:wall"]
            for x, y in ((left + 30, 80), (left + 30, 110), (left, 110), (left, 80)):
                out.append(f"G1 X{x:.3f} Y{y:.3f} {feed(1.1)} F2700")
            out.append(";TYPE:infill")
            for step in range(1, 6):
                y = 80 + 5 * step
                out.append(f"G1 X{left + (29 if step % 2 else 1):.3f} Y{y:.3f} {feed(1.05)} F3600")
        if marked:
            out.append("M486 S-1")
    out += ["M107", "G1 Z20 F600", "M104 S0", "M140 S0", "G0 X5 Y200 F6000", "M84"]
    return "\n".join(out) + "\n"
