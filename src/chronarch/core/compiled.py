"""How the inner functions of reading and planning are compiled: once, and kept on disk by numba.

numba looks only at a function's own file to tell whether its compiled code is still good, but constants and inner
functions are compiled in from other files. So the compiled code lies in a folder that is named by a hash of all of
them. `chronarch.warm_up` compiles everything beforehand.
"""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path

import numba
from numba import njit

_CORE = Path(__file__).parent
_SOURCES = (
    "compiled.py",
    "gcode/rules.py",
    "gcode/kernel_layout.py",
    "gcode/motion.py",
    "gcode/kernel_commands.py",
    "gcode/scan.py",
    "gcode/shift.py",
)

DIGEST = hashlib.sha256(b"".join((_CORE / name).read_bytes() for name in _SOURCES)).hexdigest()[:16]
"""Identifies this state of the compiled functions. Nothing that an earlier state compiled or read may be used by this
one."""


def _cache_folder() -> Path:
    """Beside the code if that can be written, else in the cache folder of the user or the machine."""
    places = (_CORE / "gcode" / "__pycache__", Path("~/.cache/chronarch").expanduser(), Path(tempfile.gettempdir()))
    for place in places:
        existing = next(folder for folder in (place, *place.parents) if folder.exists())
        if os.access(existing, os.W_OK):
            return place / f"kernel-{DIGEST}"
    return places[-1] / f"kernel-{DIGEST}"


if not os.environ.get("NUMBA_CACHE_DIR"):
    numba.config.CACHE_DIR = str(_cache_folder())  # type: ignore[attr-defined]

kernel = njit(cache=True, error_model="numpy", nogil=True, _nrt=False)  # type: ignore[call-overload]
"""Compiles a function. Such functions make no arrays, so that numba's reference counting, which would cost more than
the reading itself, can be left out."""
