"""The demo shop's library beyond its first files: a part with variants and a model, revisions, tags, a file that does
not fit everywhere."""

from __future__ import annotations

import re
import struct
import tempfile
from dataclasses import replace
from pathlib import Path

from chronarch.client import Client, requests
from chronarch.core.gcode.edits import PauseAt, SetFromLayer
from chronarch.demo.shapes import Loop, hatch
from chronarch.demo.shop import PARTS, PIECES
from chronarch.demo.slicer import DemoPart, slice_part
from chronarch.wire import library as w
from chronarch.wire.library import File

FACE_STRIP_MM = 0.5
MODELLED = ("nest-box-plate", "feeder-hopper")
BY_NAME = {part.name: part for part in PARTS}
TAGS = {"bobbin-32": ["standing order"], "heddle-clip": ["standing order", "fiddly"], "feeder-hopper": ["food safe"]}
NOTES = {
    "feeder-hopper": "Let the bed cool to 35 °C, or the corners lift.",
    "heddle-clip": "The clips snap off the bed cold; count them.",
}


def add_variants(client: Client) -> None:
    """Files of the same part for other machines, and one too wide for the small ones."""
    plate, hopper = BY_NAME["nest-box-plate"], BY_NAME["feeder-hopper"]
    wide = ((150.0, 90.0), (150.0, 210.0), (250.0, 90.0), (250.0, 210.0))
    for name, part, nozzle_mm, model in (
        ("nest-box-plate-0.6mm.gcode", plate, 0.6, ""),
        ("nest-box-plate-x4-lantern-300.gcode", replace(plate, spots=wide), 0.4, "Lantern 300"),
        (
            "feeder-hopper-x2-lantern-300.gcode",
            replace(hopper, spots=((90.0, 150.0), (180.0, 150.0))),
            0.4,
            "Lantern 300",
        ),
    ):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / name
            path.write_text("".join(f"{line}\n" for line in slice_part(part, nozzle_mm, model=model)))
            client.add_file(path, folder="Tern Island")


def leave_stick(folder: Path) -> Path:
    """A memory stick that somebody left in the shop's computer, with files on it."""
    for n, part in enumerate(PARTS[:3]):
        path = folder / ("from Ina" if n else "") / f"{part.name}-again.gcode"
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text("".join(f"{line}\n" for line in slice_part(part, 0.4)))
    return folder


def tend(client: Client, files: dict[str, File]) -> None:
    """Add parts, tags, notes and edits, as a real shop has them."""
    for name, tags in TAGS.items():
        change = w.FileChange(tags=tags, notes=NOTES.get(name))
        client.do(requests.change_file(files[name].id, change))
    for name in BY_NAME:
        made_by = client.all(requests.files(search=name))
        for file in made_by:
            variant = int(found[1]) if (found := re.search(r"-x(\d)-", file.name)) else PIECES[name]
            client.do(requests.change_file(file.id, w.FileChange(pieces=variant)))
        part = client.do(requests.add_part(w.NewPart(name=name.replace("-", " "), files=[f.id for f in made_by])))
        if name in MODELLED:
            client.do(requests.put_model(part.id, f"{name}.stl", stl(BY_NAME[name])))
    client.do(requests.edit_file(files["bobbin-32"].id, SetFromLayer(3, nozzle_c=198, fan_pct=60)))
    client.do(requests.edit_file(files["feeder-hopper"].id, PauseAt(12, "Lay the mesh in")))
    client.do(requests.change_file(files["feeder-hopper"].id, w.FileChange(notes=NOTES["feeder-hopper"])))


def stl(part: DemoPart, step_mm: float = 0.8) -> bytes:
    """One object of a part as a binary STL: its sections stacked, walls between them, and a face below and above."""
    triangles: list[tuple[tuple[float, float, float], ...]] = []
    levels = max(2, round(part.height_mm / step_mm))
    rings = [part.section(part.height_mm * k / levels).walls(0) for k in range(levels + 1)]
    for k in range(levels):
        low, high = part.height_mm * k / levels, part.height_mm * (k + 1) / levels
        for a, b in zip(rings[k], rings[k + 1], strict=False):
            if len(a) == len(b):
                triangles += _wall(a, b, low, high)
    for ring, z in ((rings[0], 0.0), (rings[-1], part.height_mm)):
        triangles += _face(ring, z)
    out = bytearray(80) + struct.pack("<I", len(triangles))
    for corners in triangles:
        out += struct.pack("<12fH", 0, 0, 0, *(v for corner in corners for v in corner), 0)
    return bytes(out)


Triangle = tuple[tuple[float, float, float], ...]


def _wall(a: Loop, b: Loop, low: float, high: float) -> list[Triangle]:
    found: list[Triangle] = []
    for i in range(len(a)):
        j = (i + 1) % len(a)
        p, q, r, t = (*a[i], low), (*a[j], low), (*b[i], high), (*b[j], high)
        found += [(p, q, t), (p, t, r)]
    return found


def _face(ring: list[Loop], z: float) -> list[Triangle]:
    """A flat face with its holes, as strips half a millimetre wide."""
    found: list[Triangle] = []
    for (x0, y), (x1, _) in hatch(ring, FACE_STRIP_MM, 0.0):
        left, right = min(x0, x1), max(x0, x1)
        low, high = y - FACE_STRIP_MM / 2, y + FACE_STRIP_MM / 2
        a, b, c, d = (left, low, z), (right, low, z), (right, high, z), (left, high, z)
        found += [(a, b, c), (a, c, d)]
    return found
