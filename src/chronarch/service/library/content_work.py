"""What the reading processes do with contents: read, draw, edit, compare. Only they load the compiled kernel."""

from __future__ import annotations

import hashlib
import io
import mmap
import multiprocessing
import os
from dataclasses import asdict
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from chronarch.core.compiled import DIGEST
from chronarch.core.gcode import editing
from chronarch.core.gcode import kernel_layout as k
from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.gcode.compare import differences
from chronarch.core.gcode.contents import Layer, PrintedObject
from chronarch.core.gcode.decompress import PIECE, Unpacker
from chronarch.core.gcode.drawing import layer_scene, part_scene, sampled_lines
from chronarch.core.gcode.edits import Edit, SkipObject
from chronarch.core.gcode.kernel_layout import Bytes
from chronarch.core.gcode.layers import Index, layer_moves
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.gcode.splice import LineChange, apply, describe
from chronarch.core.library.mesh import read_solid
from chronarch.core.machines.model import MachineModel
from chronarch.wire import gcode as w
from chronarch.wire.gcode import WirePlan

MOST_SHAPE_LINES = 150_000
_progress: Any = None


def enter(progress: Any) -> None:
    """Called when a worker starts: it learns where to write its progress."""
    global _progress
    _progress = progress


def _mapped(path: Path) -> Bytes:
    with path.open("rb") as source:
        size = path.stat().st_size
        return as_bytes(memoryview(mmap.mmap(source.fileno(), 0, access=mmap.ACCESS_READ)) if size else b"")


def _index_path(derived: Path, model: MachineModel) -> Path:
    """Where the layers of a content are kept for a model; depends on the figures of the model and on the kernel."""
    return derived / f"{hashlib.sha256(f'{DIGEST} {model!r}'.encode()).hexdigest()[:16]}.npz"


def _keep(analysis: Analysis, derived: Path, model: MachineModel) -> None:
    derived.mkdir(parents=True, exist_ok=True)
    rows = np.array([list(asdict(layer).values()) for layer in analysis.layers], np.float64).reshape(-1, 7)
    out = io.BytesIO()
    index = analysis.index
    np.savez_compressed(out, floats=index.floats, ints=index.ints, ends=index.ends, rows=rows)
    target = _index_path(derived, model)
    part = target.with_suffix(f".{multiprocessing.current_process().pid}.part")
    part.write_bytes(out.getvalue())
    part.replace(target)


def unpack(path: Path, out: Path, largest: int) -> tuple[str, int]:
    digest, size, unpacker = hashlib.sha256(), 0, Unpacker(largest)
    with path.open("rb") as source, out.open("wb") as target:
        while data := source.read(PIECE):
            for piece in unpacker.feed(data):
                digest.update(piece)
                size += target.write(piece)
        for piece in unpacker.end():
            digest.update(piece)
            size += target.write(piece)
        target.flush()
        os.fsync(target.fileno())
    return digest.hexdigest(), size


def read(
    path: Path, derived: Path, models: dict[str, MachineModel], slot: int
) -> list[tuple[str, dict[str, Any], dict[str, Any]]]:
    found = []
    data = _mapped(path)
    for n, (name, model) in enumerate(models.items()):

        def told(share: float, n: int = n) -> None:
            _progress[slot] = (n + share) / len(models)

        a = analyse(data, model, told)
        _keep(a, derived, model)
        for picture in a.thumbnails:
            suffix = picture.kind.partition("/")[2]
            (derived / f"{picture.width}x{picture.height}.{suffix}").write_bytes(picture.data)
        reading = w.FileReading.of(a, name).model_dump(mode="json")
        found.append((name, reading, WirePlan.of(a.plan).model_dump(mode="json")))
    return found


@lru_cache(maxsize=6)
def _opened(path: Path, derived: Path, model: MachineModel) -> tuple[Bytes, Index, Any]:
    """A content with its layers, which are read again when they are not kept for the figures of the model."""
    kept = _index_path(derived, model)
    if not kept.exists():
        _keep(analyse(_mapped(path), model), derived, model)
    with np.load(kept) as arrays:
        return _mapped(path), Index(arrays["floats"], arrays["ints"], arrays["ends"]), arrays["rows"]


def layer(path: Path, derived: Path, model: MachineModel, layer: int) -> bytes:
    data, index, _ = _opened(path, derived, model)
    return layer_moves(data, index, layer, model).encode()


def table(path: Path, derived: Path, model: MachineModel) -> list[Layer]:
    rows = _opened(path, derived, model)[2].tolist()
    return [Layer(z, high, int(line), int(command), int(at), s, mm) for z, high, line, command, at, s, mm in rows]


def starts(path: Path, derived: Path, model: MachineModel) -> list[tuple[float, float, float]]:
    """Where the nozzle is when each layer begins, machine coordinates, mm."""
    _, index, _ = _opened(path, derived, model)
    at = index.floats[1:, k.X : k.Z + 1] + index.floats[1:, k.OFFSET : k.OFFSET + 3]
    return [(x, y, z) for x, y, z in at.tolist()]


def shape(path: Path, derived: Path, model: MachineModel) -> bytes:
    data, index, _ = _opened(path, derived, model)
    lines, numbers = sampled_lines(data, index, model, MOST_SHAPE_LINES)
    head = b"CPRT" + np.array([len(lines), index.layers], "<u4").tobytes()
    return head + lines.astype("<f4").tobytes() + numbers.astype("<u2").tobytes()


def drawing(
    path: Path,
    derived: Path,
    model: MachineModel,
    layer: int | None,
    kind: str,
    title: str,
    objects: tuple[PrintedObject, ...],
) -> bytes:
    data, index, rows = _opened(path, derived, model)
    if layer is None:
        scene = part_scene(data, index, model, title, objects)
    else:
        words = f"{title}, layer {layer} of {index.layers}, z {rows[layer - 1][0]:.2f} mm"
        scene = layer_scene(layer_moves(data, index, layer, model), model, objects, words)
    return scene.png() if kind == "png" else scene.svg().encode()


def preview(path: Path, model: MachineModel, edit: Edit, out: Path | None) -> dict[str, Any]:
    """Make an edit. Returns what it does; its bytes go into `out` if that is given."""
    data = _mapped(path)
    before = analyse(data, model)
    edited = editing.make(data, before, edit, model)
    changed = apply(data.tobytes(), edited.splices)
    after = analyse(changed, model)
    if out is not None:
        out.write_bytes(changed)
    reading = w.FileReading.of(after, model.name)
    return w.EditPreview(
        text=edited.text,
        care=edited.care,
        changes=[LineChange(**asdict(c)) for c in describe(data, edited.splices)],
        count=len(edited.splices),
        size=len(changed),
        planned_before_s=before.planned_s,
        planned_after_s=after.planned_s,
        filament_before_mm=sum(before.filament_mm.values()),
        filament_after_mm=sum(after.filament_mm.values()),
        layers_after=len(after.layers),
        findings=reading.findings,
    ).model_dump(mode="json")


def leave_out(
    path: Path, model: MachineModel, skips: list[tuple[str, int]], out: Path
) -> tuple[int, dict[str, Any], dict[str, Any]]:
    """Leave objects out, each from a layer on; the edited bytes go into `out`. Returns how many commands of it are
    those of the same without the last skips' layer, what it says, and its time plan."""
    data = _mapped(path)
    last = max(layer for _, layer in skips)
    for name, layer in skips:
        before = analyse(data, model)
        edited = editing.make(data, before, SkipObject(name, layer), model)
        data = as_bytes(apply(data.tobytes(), edited.splices))
    out.write_bytes(data.tobytes())
    after = analyse(data, model)
    reading = w.FileReading.of(after, model.name).model_dump(mode="json")
    return after.plan.layers[last - 1], reading, WirePlan.of(after.plan).model_dump(mode="json")


def difference(earlier: Path, later: Path, derived: Path, model: MachineModel) -> dict[str, Any]:
    changes, more = differences(earlier.read_bytes(), later.read_bytes())
    rows = _opened(later, derived, model)[2]
    starts = [int(row[2]) for row in rows.tolist()]
    touched: set[int] = set()
    for c in changes:
        last = c.line + c.after.count("\n") + 1
        touched.update(
            range(*(int(np.searchsorted(starts, line, "right")) + n for n, line in enumerate((c.line, last))))
        )
    layers = sorted(touched - {0})
    return {"changes": [asdict(c) for c in changes], "more": more, "layers": layers}


def text(path: Path, first: int, count: int) -> tuple[list[str], int]:
    """Lines `first` on, and how many the file has."""
    data = _mapped(path)
    ends = np.flatnonzero(data == 10)
    total = len(ends) + (len(data) > 0 and data[-1] != 10)
    start = 0 if first <= 1 else int(ends[first - 2]) + 1 if first - 2 < len(ends) else len(data)
    last = first + count - 2
    stop = int(ends[last]) if last < len(ends) else len(data)
    raw = data[start : min(stop, start + 2_000_000)].tobytes().decode("utf-8", "replace")
    return raw.split("\n")[:count] if start < len(data) else [], int(total)


def solid(path: Path) -> dict[str, Any]:
    found = read_solid(path.read_bytes())
    return {"kind": found.kind, "size_mm": found.size_mm, "triangles": len(found.triangles)}


def triangles(path: Path) -> bytes:
    return read_solid(path.read_bytes()).triangles.astype("<f4").tobytes()
