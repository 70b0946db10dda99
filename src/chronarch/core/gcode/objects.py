"""The separate things a file lays down: from the slicer's marks, else by connected footprints on the first layers."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.contents import PrintedObject, Ring
from chronarch.core.gcode.kernel_layout import Bytes, Floats, Ints
from chronarch.core.gcode.layers import Index, layer_moves
from chronarch.core.gcode.reader import Pass
from chronarch.core.machines.model import MachineModel

CELL_MM = 0.8
FIRST_LAYERS = 3
MOST_OBJECTS = 500
MOST_LINES = 200_000
AROUND_MM = 50.0
LARGEST_LAYER = 24 << 20
_M486 = re.compile(rb"^\s*M486\s*(?:([STPUC])\s*(-?\d+))?\s*(?:A\s*\"?([^\"\r\n]*)\"?)?", re.I)
_NAME = re.compile(r"""\bNAME\s*=\s*(?:"([^"]*)"|'([^']*)'|(\S+))""", re.I)


@dataclass(frozen=True)
class Spans:
    """Which object each stretch of lines belongs to: `starts` holds first lines, rising, `owners` the object's number
    in `names`, -1 for none; `keys` are what the marks call them: `#3` for M486 S3, else the name."""

    starts: Ints
    owners: Ints
    names: tuple[str, ...]
    keys: tuple[str, ...]

    def of_lines(self, lines: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
        """The object each line belongs to."""
        if not len(self.starts):
            return np.full(len(lines), -1, np.int64)
        at = np.searchsorted(self.starts, lines, "right") - 1
        return np.where(at >= 0, self.owners[np.maximum(at, 0)], -1)


def read_spans(data: Bytes, marks: Ints) -> Spans:
    """The stretches that the file's marks name."""
    names: list[str] = []
    keys: dict[str, int] = {}
    starts, owners = [], []
    now = -1

    def number(key: str, name: str) -> int:
        if key not in keys and len(names) < MOST_OBJECTS:
            keys[key] = len(names)
            names.append(name)
        return keys.get(key, -1)

    for kind, offset, length, line, _, _ in marks.tolist():
        if kind not in (s.K_OBJECT, s.K_OBJECT_END, s.K_M486):
            continue
        text = data[offset : offset + min(length, 200)].tobytes()
        if kind == s.K_OBJECT_END:
            now = -1
        elif kind == s.K_OBJECT:
            name = _named(text)
            now = number(name, name) if name else -1
        elif found := _M486.match(text):
            if found[1] in (b"S", b"s"):
                which = int(found[2])
                now = number(f"#{which}", f"object {which + 1}") if which >= 0 else -1
            if found[3] is not None and now >= 0:
                names[now] = found[3].decode("utf-8", "replace").strip()[:80] or names[now]
        starts.append(line)
        owners.append(now)
    return Spans(np.array(starts, np.int64), np.array(owners, np.int64), tuple(names), tuple(keys))


def _named(text: bytes) -> str:
    words = text.decode("utf-8", "replace").strip()
    if given := _NAME.search(words):
        return next(n for n in given.groups() if n is not None).strip()[:80]
    name = words[len("printing object") :] if words.lower().startswith("printing object") else words.partition(":")[2]
    name = name.strip()[:80]
    if name.isdigit():
        return f"object {name}"
    return "" if name.upper() in ("", "NONMESH") else name


def find_objects(data: Bytes, index: Index, run: Pass, spans: Spans, model: MachineModel) -> tuple[PrintedObject, ...]:
    """The objects of a file that has been read."""
    if spans.names:
        return _marked(data, index, run, spans, model)
    points = [_laid(data, index, layer, model)[0] for layer in range(1, min(FIRST_LAYERS, index.layers) + 1)]
    rings = footprints(points, (model.volume_mm[0], model.volume_mm[1]))
    return tuple(PrintedObject(f"object {n + 1}", ring, None, None, False) for n, ring in enumerate(rings))


def _laid(data: Bytes, index: Index, layer: int, model: MachineModel) -> tuple[Floats, npt.NDArray[np.int64]]:
    """Where a layer lays material: (x0, y0, x1, y1) of each line laid, and its line number; nothing of a layer so
    large that no slicer made it."""
    start, stop = index.span(layer)
    if stop - start > LARGEST_LAYER:
        return np.zeros((0, 4)), np.zeros(0, np.int64)
    found = layer_moves(data, index, layer, model)
    moves = found.moves
    x = np.concatenate([[found.start[0]], moves["x"]])
    y = np.concatenate([[found.start[1]], moves["y"]])
    laid = moves["kind"] == s.EXTRUDE
    ends = np.stack([x[:-1], y[:-1], x[1:], y[1:]], axis=1)[laid]
    return ends.astype(np.float64), moves["line"][laid].astype(np.int64)


def _marked(data: Bytes, index: Index, run: Pass, spans: Spans, model: MachineModel) -> tuple[PrintedObject, ...]:
    filament, seconds = np.zeros(len(spans.names)), np.zeros(len(spans.names))
    low, high = np.full((len(spans.names), 2), np.inf), np.full((len(spans.names), 2), -np.inf)
    first: dict[int, int] = {}
    marks = run.tables.marks
    for n in range(int(run.ints[s.SPANS])):
        row, owner = run.tables.spans[n], int(spans.owners[n]) if n < len(spans.owners) else -1
        if owner < 0 or row[s.S_COUNT] == 0:
            continue
        filament[owner] += row[s.S_FILAMENT]
        seconds[owner] += row[s.S_SECONDS]
        low[owner] = np.minimum(low[owner], row[s.S_LOW_X : s.S_LOW_Y + 1])
        high[owner] = np.maximum(high[owner], row[s.S_HIGH_X : s.S_HIGH_Y + 1])
        # the mark may stand just before the layer's first line
        layer = max(1, int(marks[int(row[s.S_MARK]), 5]))
        first.setdefault(owner, layer)
    wanted = sorted({layer + k for layer in first.values() for k in range(2) if layer + k <= index.layers})[:60]
    points: dict[int, list[Floats]] = {}
    for layer in wanted:
        ends, lines = _laid(data, index, layer, model)
        owners = spans.of_lines(lines)
        for owner in np.unique(owners[owners >= 0]).tolist():
            if layer <= first.get(owner, 0) + 1:
                points.setdefault(owner, []).append(ends[owners == owner].reshape(-1, 2))
    return tuple(
        PrintedObject(
            name,
            hull(np.concatenate(points[n])) if n in points else _box(low[n], high[n]),
            float(filament[n]),
            float(seconds[n]),
            True,
        )
        for n, name in enumerate(spans.names)
        if np.isfinite(low[n]).all()
    )


def _box(low: Floats, high: Floats) -> Ring:
    return tuple(
        (float(x), float(y)) for x, y in ((low[0], low[1]), (high[0], low[1]), (high[0], high[1]), (low[0], high[1]))
    )


def hull(points: Floats) -> Ring:
    """The convex hull of points (n x 2), counter-clockwise: Andrew's monotone chain (1979)."""
    ordered = sorted(set(map(tuple, np.round(points, 1).tolist())))
    if len(ordered) < 3:
        return tuple((float(x), float(y)) for x, y in ordered)

    def half(walk: Iterable[tuple[float, ...]]) -> list[tuple[float, ...]]:
        chain: list[tuple[float, ...]] = []
        for p in walk:
            while len(chain) > 1 and _turn(chain[-2], chain[-1], p) <= 0:
                chain.pop()
            chain.append(p)
        return chain[:-1]

    return tuple((float(p[0]), float(p[1])) for p in half(ordered) + half(reversed(ordered)))


def _turn(a: tuple[float, ...], b: tuple[float, ...], c: tuple[float, ...]) -> float:
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])


def footprints(layers: list[Floats], bed_mm: tuple[float, float] = (220.0, 220.0)) -> list[Ring]:
    """Outlines of what hangs together on the first layers, biggest first: lines (n x 4: x0, y0, x1, y1) are drawn on
    a grid over the bed and a little around it, touching cells are one footprint. What is on the first layer alone (a
    priming line, a skirt) is none when there are more layers."""
    cell_mm = max(CELL_MM, max(bed_mm) / 400)
    drawn = [_cells(ends, bed_mm, cell_mm) for ends in layers]
    label: dict[tuple[int, int], int] = {}
    count = 0
    occupied = set().union(*drawn) if drawn else set()
    for cell in occupied:
        if cell in label:
            continue
        count += 1
        label[cell] = count
        open_ = [cell]
        while open_:
            cx, cy = open_.pop()
            for dx in (-2, -1, 0, 1, 2):
                for dy in (-2, -1, 0, 1, 2):
                    near = (cx + dx, cy + dy)
                    if near in occupied and near not in label:
                        label[near] = count
                        open_.append(near)
    lasting = {label[cell] for cell in drawn[-1]} if len(drawn) > 1 else set(label.values())
    by_label: dict[int, list[tuple[int, int]]] = {}
    for cell, n in label.items():
        if n in lasting:
            by_label.setdefault(n, []).append(cell)
    groups = sorted(by_label.values(), key=lambda cells: (-len(cells), min(cells)))[:MOST_OBJECTS]
    return [hull((np.array(cells, np.float64) + 0.5) * cell_mm) for cells in groups]


def _cells(ends: Floats, bed_mm: tuple[float, float], cell: float) -> set[tuple[int, int]]:
    """The cells that lines pass; of very many lines, some of them."""
    ends = ends[:: max(1, len(ends) // MOST_LINES)]
    far = np.array([*bed_mm, *bed_mm]) + AROUND_MM
    ends = ends[((ends > -AROUND_MM) & (ends < far)).all(1)]
    if not len(ends):
        return set()
    steps = int(np.ceil(np.hypot(ends[:, 2] - ends[:, 0], ends[:, 3] - ends[:, 1]).max() / cell)) + 1
    share = np.linspace(0, 1, max(2, steps))
    codes = [np.zeros(0, np.int64)]
    for piece in np.array_split(ends, max(1, len(ends) * len(share) // 2_000_000)):
        x = piece[:, 0, None] + (piece[:, 2] - piece[:, 0])[:, None] * share
        y = piece[:, 1, None] + (piece[:, 3] - piece[:, 1])[:, None] * share
        grid = (np.floor(x / cell) + 32768).astype(np.int64) * 65536 + (np.floor(y / cell) + 32768).astype(np.int64)
        codes.append(np.unique(grid))
    found = np.unique(np.concatenate(codes))
    return set(zip((found // 65536 - 32768).tolist(), (found % 65536 - 32768).tolist(), strict=True))
