"""Changing bytes of a file, and no others: a change is a list of pieces to put in place of stretches."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from chronarch.core.gcode.kernel_layout import Bytes, Ints


@dataclass(frozen=True)
class Splice:
    """Put `text` in place of bytes `start` up to `stop`."""

    start: int
    stop: int
    text: bytes


@dataclass(frozen=True)
class LineChange:
    """One stretch as a person reads it: its first line (from 1), what stood there, what stands there now."""

    line: int
    before: str
    after: str


def apply(data: bytes, splices: Iterable[Splice]) -> bytes:
    """The bytes with all splices in place. Raises ValueError when two overlap."""
    out, at = [], 0
    for splice in sorted(splices, key=lambda s: (s.start, s.stop)):
        if splice.start < at:
            raise ValueError("two changes overlap")
        out += [data[at : splice.start], splice.text]
        at = splice.stop
    return b"".join([*out, data[at:]])


def line_starts(data: Bytes) -> Ints:
    """The offset of each line's first byte."""
    ends = np.flatnonzero(data == 10) + 1
    return np.concatenate([np.zeros(1, np.int64), ends[ends < len(data)]])


def describe(data: Bytes, splices: Sequence[Splice], most: int = 40) -> list[LineChange]:
    """The first changes, for people."""
    starts = line_starts(data).tolist()
    return [
        LineChange(
            bisect_right(starts, x.start),
            _text(data[x.start : min(x.stop, x.start + 600)].tobytes()),
            _text(x.text[:600]),
        )
        for x in sorted(splices, key=lambda x: x.start)[:most]
    ]


def _text(raw: bytes) -> str:
    return raw.decode("utf-8", "replace").rstrip("\r\n")
