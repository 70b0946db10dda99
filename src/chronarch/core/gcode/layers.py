"""One layer's moves, read from where the layer begins; and how they cross the wire.

docs/protocols/layers.md describes the binary form.
"""

from __future__ import annotations

import math
import struct
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.kernel_layout import Bytes, Floats, Ints
from chronarch.core.gcode.reader import Pass
from chronarch.core.machines.model import MachineModel

MAGIC = b"CLAY"
VERSION = 1
CHORD_RAD = math.radians(6)

MOVE = np.dtype(
    [
        ("x", "<f4"),
        ("y", "<f4"),
        ("z", "<f4"),
        ("speed", "<f4"),
        ("filament", "<f4"),
        ("seconds", "<f4"),
        ("line", "<u4"),
        ("command", "<u4"),
        ("kind", "u1"),
        ("tool", "u1"),
        ("feature", "<u2"),
    ]
)
"""mm in machine coordinates where the move ends, mm/s it may cruise at, mm of filament, s, its line from 1, the
commands done with it, what it is, its tool and feature; 36 bytes."""


@dataclass(frozen=True)
class Index:
    """Where each layer begins: the reading's state there. Row 0 is the file's beginning; `ends` are byte offsets."""

    floats: Floats
    ints: Ints
    ends: Ints

    @property
    def layers(self) -> int:
        return len(self.ends) - 1

    def span(self, layer: int) -> tuple[int, int]:
        """The bytes of a layer, 1 to the count of layers; 0 is what comes before the first."""
        start = 0 if layer == 0 else int(self.ints[layer, s.OFFSET_AT])
        return start, int(self.ends[layer])


@dataclass(frozen=True)
class LayerMoves:
    """The moves of one layer in order, where they start from, and the names their `feature` numbers stand for."""

    layer: int
    z_mm: float
    start: tuple[float, float, float]
    moves: npt.NDArray[np.void]
    features: tuple[str, ...]

    def encode(self) -> bytes:
        """As bytes: a header, the features' names, the moves."""
        names = "\n".join(self.features).encode()
        names += b" " * (-len(names) % 4)
        x, y, z = self.start
        head = struct.pack(
            "<4sHHffffII", MAGIC, VERSION, MOVE.itemsize, self.z_mm, x, y, z, len(self.moves), len(names)
        )
        return head + struct.pack("<I", self.layer) + names + self.moves.tobytes()


def layer_moves(data: Bytes, index: Index, layer: int, model: MachineModel) -> LayerMoves:
    """Read one layer's moves. Raises IndexError for a layer the file has not."""
    if not 0 <= layer <= index.layers:
        raise IndexError(layer)
    start, stop = index.span(layer)
    run = Pass.begin(model, layers=64, moves=max(64, (stop - start) // 24))
    if layer:
        run.floats[:] = index.floats[layer]
        run.ints[:] = index.ints[layer]
        run.ints[s.LINE] -= 1
    feature = int(run.ints[s.FEATURE])
    for at in (s.LAYERS, s.MARKS, s.SPANS, s.MOVES, s.BLOCKS):
        run.ints[at] = 0
    run.ints[s.PLAN_MARKS], run.ints[s.SPAN], run.ints[s.EMIT] = 1, -1, 1
    run.floats[s.SECONDS] = run.floats[s.MARKED_S] = run.floats[s.ENTRY2] = run.floats[s.CRUISE2] = 0.0
    begin = [float(run.floats[k] + run.floats[s.OFFSET + k]) for k in range(3)]
    run.run(data, start, stop)
    run.end()
    rows = run.tables.moves[: int(run.ints[s.MOVES])]
    marks = run.tables.marks[: int(run.ints[s.MARKS])]
    names, numbers = _features(data, marks, feature)
    moves = np.zeros(len(rows), MOVE)
    for name, column in (("x", s.V_X), ("y", s.V_Y), ("z", s.V_Z), ("speed", s.V_SPEED), ("filament", s.V_FILAMENT),
                         ("seconds", s.V_SECONDS), ("line", s.V_LINE),
                         ("command", s.V_COMMAND),
                         ("tool", s.V_TOOL)):  # fmt: skip
        moves[name] = rows[:, column]
    kinds = rows[:, s.V_KIND].astype(np.int64)
    moves["kind"] = kinds & 15
    moves["feature"] = numbers[rows[:, s.V_MARK].astype(np.int64) + 1]
    moves = _with_chords(moves, kinds, rows, begin)
    z = float(index.floats[layer, s.LAYER_Z]) if layer else 0.0
    return LayerMoves(layer, z, (begin[0], begin[1], begin[2]), moves, names)


def _features(data: Bytes, marks: Ints, before: int) -> tuple[tuple[str, ...], npt.NDArray[np.uint16]]:
    """The features' names, and for each mark (shifted by one: 0 is before the first) the number of the feature."""
    names = [""]
    numbers = np.zeros(len(marks) + 1, np.uint16)
    now = _number_of(names, _feature_name(data, before)) if before >= 0 else 0
    numbers[0] = now
    for n, mark in enumerate(marks):
        if mark[0] == s.K_FEATURE:
            now = _number_of(names, _feature_name(data, int(mark[1])))
        numbers[n + 1] = now
    return tuple(names), numbers


def _number_of(names: list[str], name: str) -> int:
    if name not in names:
        if len(names) > 60_000:
            return 0
        names.append(name)
    return names.index(name)


def _feature_name(data: Bytes, offset: int) -> str:
    text = data[offset : offset + 80].tobytes().split(b"\n")[0].decode("utf-8", "replace").strip()
    return text.partition(":")[2].strip() or text.partition(" ")[2].strip()


def _with_chords(moves: npt.NDArray[np.void], kinds: Ints, rows: Floats, at: list[float]) -> npt.NDArray[np.void]:
    """Arcs in the bed's plane become chords of at most 6°."""
    arcs = np.flatnonzero(kinds & (s.CLOCKWISE | s.COUNTER))
    if not len(arcs):
        return moves
    pieces = []
    done = 0
    for k in arcs:
        pieces.append(moves[done:k])
        done = int(k) + 1
        p = (at[0], at[1], at[2]) if k == 0 else tuple(float(moves[k - 1][c]) for c in ("x", "y", "z"))
        pieces.append(
            _chords(moves[k], p, float(rows[k, s.V_CX]), float(rows[k, s.V_CY]), bool(kinds[k] & s.CLOCKWISE))
        )
    pieces.append(moves[done:])
    return np.concatenate(pieces)


def _chords(move: np.void, p: tuple[float, ...], cx: float, cy: float, clockwise: bool) -> npt.NDArray[np.void]:
    begin, end = math.atan2(p[1] - cy, p[0] - cx), math.atan2(move["y"] - cy, move["x"] - cx)
    sweep = end - begin
    if abs(move["x"] - p[0]) < 1e-4 and abs(move["y"] - p[1]) < 1e-4:
        sweep = -2 * math.pi if clockwise else 2 * math.pi
    elif clockwise and sweep >= 0:
        sweep -= 2 * math.pi
    elif not clockwise and sweep <= 0:
        sweep += 2 * math.pi
    n = max(1, math.ceil(abs(sweep) / CHORD_RAD))
    share = np.arange(1, n + 1) / n
    r = math.hypot(p[0] - cx, p[1] - cy)
    out = np.repeat(np.array([move], MOVE), n)
    out["x"], out["y"] = cx + r * np.cos(begin + sweep * share), cy + r * np.sin(begin + sweep * share)
    out["z"] = p[2] + (float(move["z"]) - p[2]) * share
    out["x"][-1], out["y"][-1] = move["x"], move["y"]
    out["filament"] /= n
    out["seconds"] /= n
    return out
