"""Whether a bed is clear, from camera frames: it looks as it did when it was last clear, except for what always moves.

Frames are compared as grey thumbnails, cell by cell, after the overall brightness has been evened out, so that a lamp
does not look like a part. Both frames are taken with the head in the same place, so that only a few cells may differ.
"""

from __future__ import annotations

from typing import Any

import numpy as np

Grey = np.ndarray[Any, np.dtype[np.float64]]
DIFFERS = 14.0
"""By how many grey levels, of 255, a cell of the bed differs when something lies on it."""
ALLOWED = 0.0008
"""The share of cells that may differ."""


def difference(clear: Grey, now: Grey) -> float:
    """The share of cells that differ, 0 to 1, of two grey pictures of one size. Raises ValueError for two sizes."""
    if clear.shape != now.shape:
        raise ValueError(f"the pictures have two sizes, {clear.shape} and {now.shape}")
    lit = now - float(np.median(now - clear))
    return float(np.mean(np.abs(lit - clear) > DIFFERS))


def is_clear(clear: Grey, now: Grey) -> bool:
    """Whether the bed of `now` is as clear as that of `clear`."""
    return difference(clear, now) <= ALLOWED
