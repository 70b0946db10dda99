"""A part's reference model: its size and its triangles, from STL (binary or text) or 3MF (the core specification's
mesh, in a ZIP package)."""

from __future__ import annotations

import io
import re
import zipfile
import zlib
from array import array
from dataclasses import dataclass, field
from typing import IO, Literal
from xml.parsers import expat

import numpy as np
import numpy.typing as npt

from chronarch.core.errors import CoreError

Triangles = npt.NDArray[np.float32]
Matrix = npt.NDArray[np.float64]
MOST_TRIANGLES = 5_000_000
MOST_ENTRIES, MOST_XML, MOST_TIMES = 10_000, 1_000_000_000, 100
"""Of a package: its entries, all its models' bytes, and how many times as large as packed they may be."""
MOST_OBJECTS = 100_000
_TOO_MANY = f"The model has over {MOST_TRIANGLES:,} triangles. Export it with fewer."
_UNITS = {"micron": 0.001, "millimeter": 1.0, "centimeter": 10.0, "inch": 25.4, "foot": 304.8, "meter": 1000.0}


class NotAMesh(CoreError):
    """The bytes are neither STL nor 3MF, or hold no triangle."""


@dataclass(frozen=True)
class Mesh:
    """Triangles (n x 3 corners x 3, mm) of a model, moved so that its lowest corner is at the origin."""

    kind: Literal["stl", "3mf"]
    triangles: Triangles

    @property
    def size_mm(self) -> tuple[float, float, float]:
        x, y, z = (float(v) for v in self.triangles.reshape(-1, 3).max(0))
        return x, y, z


def read_solid(data: bytes) -> Mesh:
    """Read a model. Raises NotAMesh."""
    if data[:4] == b"PK\x03\x04":
        kind: Literal["stl", "3mf"] = "3mf"
        triangles = _three_mf(data)
    else:
        kind, triangles = "stl", _stl(data)
    if not len(triangles):
        raise NotAMesh("The model holds no triangle. Export it again as STL or 3MF.")
    if not np.isfinite(triangles).all():
        raise NotAMesh("The model holds coordinates that are no numbers. Export it again.")
    return Mesh(kind, (triangles - triangles.reshape(-1, 3).min(0)).astype(np.float32))


def _stl(data: bytes) -> Triangles:
    if len(data) >= 84:
        count = int.from_bytes(data[80:84], "little")
        if len(data) == 84 + 50 * count:
            if count > MOST_TRIANGLES:
                raise NotAMesh(_TOO_MANY)
            facets = np.frombuffer(data, np.dtype([("n", "<f4", 3), ("v", "<f4", (3, 3)), ("a", "<u2")]), count, 84)
            return np.ascontiguousarray(facets["v"])
    if data[:80].lstrip()[:5].lower() == b"solid":
        numbers = array("f")
        try:
            for corner in re.finditer(rb"vertex\s+(\S+)\s+(\S+)\s+(\S+)", data):
                numbers.extend(map(float, corner.groups()))
                if len(numbers) > 9 * MOST_TRIANGLES:
                    raise NotAMesh(_TOO_MANY)
        except (ValueError, OverflowError):
            raise NotAMesh("The STL holds a corner that is no number. Export it again.") from None
        corners = np.array(numbers, np.float32).reshape(-1, 3)
        if len(corners) and len(corners) % 3 == 0:
            return corners.reshape(-1, 3, 3)
    raise NotAMesh("This is neither an STL nor a 3MF file, or it was cut short. Export the model again.")


def _three_mf(data: bytes) -> Triangles:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            entries = package.infolist()
            models = [e for e in entries if e.filename.lower().endswith(".model")]
            if not models:
                raise NotAMesh("The 3MF package holds no model.")
            size = sum(e.file_size for e in models)
            if len(entries) > MOST_ENTRIES or size > min(MOST_XML, MOST_TIMES * len(data) + 1_000_000):
                raise NotAMesh("The 3MF package unpacks to far more than a model is. Export it again.")
            found, left = [], MOST_TRIANGLES
            for entry in models:
                with package.open(entry) as source:
                    found.append(_Model().read(source).triangles(left))
                left -= len(found[-1])
    except (zipfile.BadZipFile, expat.ExpatError, zlib.error) as error:
        raise NotAMesh(f"The 3MF file is damaged ({error}). Export the model again.") from None
    except (KeyError, ValueError, IndexError, OverflowError, NotImplementedError, EOFError, RuntimeError) as error:
        raise NotAMesh(f"The 3MF file says what cannot be understood ({error}). Export the model again.") from None
    return np.concatenate(found)


_SAME = np.vstack([np.eye(3), np.zeros(3)])
PIECE = 1 << 18


def _matrix(text: str | None) -> Matrix:
    """A 4 x 3 matrix for row vectors, as the format writes it; the identity where there is none."""
    return np.array([float(v) for v in text.split()]).reshape(4, 3) if text else _SAME


@dataclass
class _Object:
    """One object of a model: its own corners and sides, and its components."""

    corners: array[float] = field(default_factory=lambda: array("d"))
    sides: array[int] = field(default_factory=lambda: array("q"))
    components: list[tuple[str, Matrix]] = field(default_factory=list)

    def mesh(self) -> Matrix:
        corners = np.array(self.corners, np.float64).reshape(-1, 3)
        sides = np.array(self.sides, np.int64).reshape(-1, 3)
        if not len(sides):
            return np.zeros((0, 3, 3))
        if sides.min() < 0 or sides.max() >= len(corners):
            raise NotAMesh("The 3MF's triangles name corners it has not. Export the model again.")
        found: Matrix = corners[sides]
        return found


class _Model:
    """One model of a package, read piece by piece; only its numbers are kept."""

    def __init__(self) -> None:
        self._unit = 1.0
        self._objects: dict[str, _Object] = {}
        self._items: list[tuple[str, Matrix]] = []
        self._open: _Object | None = None
        self._many = 0

    def read(self, source: IO[bytes]) -> _Model:
        parser = expat.ParserCreate(namespace_separator=" ")
        parser.StartElementHandler = self._begin
        parser.StartDoctypeDeclHandler = self._doctype
        while data := source.read(PIECE):
            parser.Parse(data)
        parser.Parse(b"", True)
        return self

    @staticmethod
    def _doctype(*_: object) -> None:
        raise NotAMesh("The 3MF's model declares a document type, which the format forbids.")

    def _begin(self, name: str, has: dict[str, str]) -> None:
        match name.rpartition(" ")[2]:
            case "vertex" if self._open is not None:
                self._room(len(self._open.corners) // 3)
                self._open.corners.extend(float(has[k]) for k in "xyz")
            case "triangle" if self._open is not None:
                self._room(len(self._open.sides) // 3)
                self._open.sides.extend(int(has[k]) for k in ("v1", "v2", "v3"))
            case "component" if self._open is not None:
                self._count()
                self._open.components.append((has["objectid"], _matrix(has.get("transform"))))
            case "object":
                self._count()
                self._open = self._objects[has.get("id", "")] = _Object()
            case "item":
                self._count()
                self._items.append((has.get("objectid", ""), _matrix(has.get("transform"))))
            case "model":
                self._unit = _UNITS[has.get("unit", "millimeter")]

    @staticmethod
    def _room(many: int) -> None:
        if many >= MOST_TRIANGLES:
            raise NotAMesh(_TOO_MANY)

    def _count(self) -> None:
        self._many += 1
        if self._many > MOST_OBJECTS:
            raise NotAMesh(f"The 3MF's model has over {MOST_OBJECTS:,} objects. Export it with fewer.")

    def triangles(self, most: int) -> Triangles:
        """What the build section places on the plate, at most `most`; every mesh if there is no such section."""
        placed = self._items or [(name, _SAME) for name in self._objects]
        counts: dict[str, int] = {}
        if sum(self._triangles_of(name, counts, 0) for name, _ in placed) > most:
            raise NotAMesh(_TOO_MANY)
        found: list[Matrix] = []
        for name, matrix in placed:
            self._place(self._objects[name], matrix, counts, found)
        return (np.concatenate(found) * self._unit).astype(np.float32) if found else np.zeros((0, 3, 3), np.float32)

    def _triangles_of(self, name: str, counts: dict[str, int], depth: int) -> int:
        """How many triangles an object has, counting its components each time they are placed."""
        if depth > DEEPEST:
            raise NotAMesh("The 3MF's objects are made of each other without end. Export the model again.")
        if name not in counts:
            o = self._objects[name]
            counts[name] = len(o.sides) // 3 + sum(self._triangles_of(n, counts, depth + 1) for n, _ in o.components)
        return counts[name]

    def _place(self, o: _Object, matrix: Matrix, counts: dict[str, int], found: list[Matrix]) -> None:
        """Put an object's triangles where a matrix says: its own mesh, and those of its components."""
        found.append(o.mesh() @ matrix[:3] + matrix[3])
        for name, inner in o.components:
            if counts[name]:
                both = np.vstack([inner[:3] @ matrix[:3], inner[3] @ matrix[:3] + matrix[3]])
                self._place(self._objects[name], both, counts, found)


DEEPEST = 16
