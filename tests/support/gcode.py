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
