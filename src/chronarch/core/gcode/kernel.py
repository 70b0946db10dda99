"""How the reading's inner functions are compiled: once, and kept on disk.

numba looks only at a function's own file to tell whether what it kept is still good, but constants and inner functions
are compiled in from others. So the kept code lies in a folder named by a hash of all of them.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import tempfile
from pathlib import Path

import numba
from numba import njit

_HERE = Path(__file__).parent
_SOURCES = ("kernel.py", "rules.py", "state.py", "motion.py", "effects.py", "scan.py", "shift.py")

DIGEST = hashlib.sha256(b"".join((_HERE / name).read_bytes() for name in _SOURCES)).hexdigest()[:16]
"""Names the state of the kernel's code: what was kept of an earlier one, compiled or read, is not for this one."""


def _cache_folder() -> Path:
    """Beside the code where that can be written, else in the user's or the machine's place for such things."""
    places = (_HERE / "__pycache__", Path("~/.cache/chronarch").expanduser(), Path(tempfile.gettempdir()))
    for place in places:
        folder = place / f"kernel-{DIGEST}"
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError:
            continue
        if os.access(folder, os.W_OK):
            return folder
    return places[-1]


if not os.environ.get("NUMBA_CACHE_DIR"):
    numba.config.CACHE_DIR = str(_cache_folder())  # type: ignore[attr-defined]

kernel = njit(cache=True, error_model="numpy", nogil=True, _nrt=False)  # type: ignore[call-overload]
"""Nothing in the kernel makes an array, so numba's reference counting, which would cost more than the reading itself,
is left out."""


def compile_all() -> None:
    """Compile, or find compiled, all that the kernel is made of; what an earlier state of the code left is removed."""
    from chronarch.core.dispatch.planner import compile_run
    from chronarch.core.fleet import MachineModel
    from chronarch.core.gcode.reader import as_bytes, read_all
    from chronarch.core.gcode.shift import shifted

    line = as_bytes(b"G1 X1 Y1 E1 F600\n")
    read_all(line, MachineModel("any"))
    shifted(line, 0, len(line), 1.0, 1.0, True)
    compile_run()
    now = Path(numba.config.CACHE_DIR)  # type: ignore[attr-defined]
    for old in now.parent.glob("kernel-*"):
        if old != now:
            shutil.rmtree(old, ignore_errors=True)


if __name__ == "__main__":
    compile_all()
