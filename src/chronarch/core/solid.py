"""A part's reference model: its size and its triangles, from STL (binary or text) or 3MF (the core specification's
mesh, in a ZIP package)."""

from __future__ import annotations

import io
import re
import zipfile
from dataclasses import dataclass
from typing import Literal
from xml.etree import ElementTree

import numpy as np
import numpy.typing as npt

from chronarch.core.errors import CoreError

Triangles = npt.NDArray[np.float32]
Matrix = npt.NDArray[np.float64]
MOST_TRIANGLES = 5_000_000
MOST_XML = 400_000_000
_UNITS = {"micron": 0.001, "millimeter": 1.0, "centimeter": 10.0, "inch": 25.4, "foot": 304.8, "meter": 1000.0}


class NotSolid(CoreError):
    """The bytes are neither STL nor 3MF, or hold no triangle."""


@dataclass(frozen=True)
class Solid:
    """Triangles (n x 3 corners x 3, mm) of a model, moved so that it stands on z 0 in the corner of x and y."""

    kind: Literal["stl", "3mf"]
    triangles: Triangles

    @property
    def size_mm(self) -> tuple[float, float, float]:
        x, y, z = (float(v) for v in self.triangles.reshape(-1, 3).max(0))
        return x, y, z


def read_solid(data: bytes) -> Solid:
    """Raises NotSolid."""
    if data[:4] == b"PK\x03\x04":
        kind: Literal["stl", "3mf"] = "3mf"
        triangles = _three_mf(data)
    else:
        kind, triangles = "stl", _stl(data)
    if not len(triangles):
        raise NotSolid("The model holds no triangle. Export it again as STL or 3MF.")
    if not np.isfinite(triangles).all():
        raise NotSolid("The model holds coordinates that are no numbers. Export it again.")
    return Solid(kind, (triangles - triangles.reshape(-1, 3).min(0)).astype(np.float32))


def _stl(data: bytes) -> Triangles:
    if len(data) >= 84:
        count = int.from_bytes(data[80:84], "little")
        if len(data) == 84 + 50 * count and count <= MOST_TRIANGLES:
            facets = np.frombuffer(data, np.dtype([("n", "<f4", 3), ("v", "<f4", (3, 3)), ("a", "<u2")]), count, 84)
            return np.ascontiguousarray(facets["v"])
    if data.lstrip()[:5].lower() == b"solid":
        found = re.findall(rb"vertex\s+(\S+)\s+(\S+)\s+(\S+)", data)
        try:
            corners = np.array([[float(v) for v in row] for row in found], np.float32)
        except ValueError:
            raise NotSolid("The STL holds a corner that is no number. Export it again.") from None
        if len(corners) and len(corners) % 3 == 0:
            return corners.reshape(-1, 3, 3)
    raise NotSolid("This is neither an STL nor a 3MF file, or it was cut short. Export the model again.")


def _three_mf(data: bytes) -> Triangles:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            names = [n for n in package.namelist() if n.lower().endswith(".model")]
            if not names:
                raise NotSolid("The 3MF package holds no model.")
            found = []
            for name in names:
                if package.getinfo(name).file_size > MOST_XML:
                    raise NotSolid("The 3MF's model is too large to be read.")
                text = package.read(name)
                if b"<!DOCTYPE" in text or b"<!ENTITY" in text:
                    raise NotSolid("The 3MF's model declares a document type, which the format forbids.")
                found.append(_model(ElementTree.fromstring(text)))
    except (zipfile.BadZipFile, ElementTree.ParseError, KeyError, ValueError, IndexError) as error:
        raise NotSolid(f"The 3MF file is damaged ({error}). Export the model again.") from None
    return np.concatenate(found) if found else np.zeros((0, 3, 3), np.float32)


def _model(model: ElementTree.Element) -> Triangles:
    """What a model's build section places on the plate; every mesh of it where there is no such section."""
    unit = _UNITS.get(model.get("unit", "millimeter"), 1.0)
    objects = {o.get("id", ""): o for o in model.iterfind(".//{*}object")}
    items = model.findall(".//{*}build/{*}item")
    placed = [(objects[i.get("objectid", "")], _transform(i)) for i in items] or [(o, _SAME) for o in objects.values()]
    found = [_placed(o, matrix, objects, 0) for o, matrix in placed]
    return (np.concatenate(found) * unit).astype(np.float32) if found else np.zeros((0, 3, 3), np.float32)


_SAME = np.vstack([np.eye(3), np.zeros(3)])
DEEPEST = 16


def _transform(element: ElementTree.Element) -> Matrix:
    """A 4 x 3 matrix for row vectors, as the format has it; none is the identity."""
    text = element.get("transform")
    return np.array([float(v) for v in text.split()]).reshape(4, 3) if text else _SAME


def _placed(o: ElementTree.Element, matrix: Matrix, objects: dict[str, ElementTree.Element], depth: int) -> Matrix:
    """An object's triangles where a matrix puts them: its own mesh, or those of its components."""
    if depth > DEEPEST:
        raise NotSolid("The 3MF's objects are made of each other without end. Export the model again.")
    found = [np.zeros((0, 3, 3))]
    for mesh in o.iterfind("{*}mesh"):
        found.append(_mesh(mesh) @ matrix[:3] + matrix[3])
    for part in o.iterfind("{*}components/{*}component"):
        inner = _transform(part)
        both = np.vstack([inner[:3] @ matrix[:3], inner[3] @ matrix[:3] + matrix[3]])
        found.append(_placed(objects[part.get("objectid", "")], both, objects, depth + 1))
    return np.concatenate(found)


def _mesh(mesh: ElementTree.Element) -> Matrix:
    corners = np.array([[float(v.get(k, "nan")) for k in "xyz"] for v in mesh.iterfind("{*}vertices/{*}vertex")])
    sides = np.array(
        [[int(v.get(k, "-1")) for k in ("v1", "v2", "v3")] for v in mesh.iterfind("{*}triangles/{*}triangle")], np.int64
    )
    if not len(sides):
        return np.zeros((0, 3, 3))
    if sides.min() < 0 or sides.max() >= len(corners) or len(sides) > MOST_TRIANGLES:
        raise NotSolid("The 3MF's triangles name corners it has not. Export the model again.")
    found: Matrix = corners[sides]
    return found
