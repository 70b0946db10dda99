"""Compiles the functions that read G-code and that plan before they are needed: `python -m chronarch.warm_up`."""

from __future__ import annotations

import shutil
from pathlib import Path

import numba

from chronarch.core.gcode.reader import as_bytes, read_all
from chronarch.core.gcode.shift import shifted
from chronarch.core.machines.model import MachineModel
from chronarch.core.planning.planner import compile_run


def warm_up() -> None:
    """Compile all functions, or load them where they are compiled; remove what earlier code left."""
    line = as_bytes(b"G1 X1 Y1 E1 F600\n")
    read_all(line, MachineModel("any"))
    shifted(line, 0, len(line), 1.0, 1.0, True)
    compile_run()
    now = Path(numba.config.CACHE_DIR)  # type: ignore[attr-defined]
    for old in now.parent.glob("kernel-*"):
        if old != now:
            shutil.rmtree(old, ignore_errors=True)


if __name__ == "__main__":
    warm_up()
