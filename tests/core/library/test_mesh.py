"""Reference models from STL and 3MF."""

from __future__ import annotations

import io
import struct
import unittest
import zipfile

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.library.mesh import NotAMesh, read_solid
from chronarch.demo.library import stl
from chronarch.demo.shop import PARTS

CUBE = [
    (a, b, c)
    for a, b, c in (
        ((0, 0, 0), (1, 0, 0), (1, 1, 0)), ((0, 0, 0), (1, 1, 0), (0, 1, 0)),
        ((0, 0, 1), (1, 0, 1), (1, 1, 1)), ((0, 0, 1), (1, 1, 1), (0, 1, 1)),
    )
]  # fmt: skip


def binary_stl(triangles: list[tuple[tuple[float, ...], ...]]) -> bytes:
    out = b"made by a test".ljust(80) + struct.pack("<I", len(triangles))
    for corners in triangles:
        out += struct.pack("<12fH", 0, 0, 0, *(v for corner in corners for v in corner), 0)
    return out


def text_stl(triangles: list[tuple[tuple[float, ...], ...]]) -> bytes:
    rows = []
    for corners in triangles:
        vertices = "".join(f"vertex {x} {y} {z}\n" for x, y, z in corners)
        rows.append(f"facet normal 0 0 0\nouter loop\n{vertices}endloop\nendfacet\n")
    return f"solid cube\n{''.join(rows)}endsolid cube\n".encode()


def three_mf(triangles: list[tuple[tuple[float, ...], ...]], unit: str = "millimeter", extra: str = "") -> bytes:
    corners = [corner for triangle in triangles for corner in triangle]
    vertices = "".join(f'<vertex x="{x}" y="{y}" z="{z}"/>' for x, y, z in corners)
    sides = "".join(f'<triangle v1="{n}" v2="{n + 1}" v3="{n + 2}"/>' for n in range(0, len(corners), 3))
    model = (
        f'<?xml version="1.0"?>{extra}<model unit="{unit}" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">'
        f'<resources><object id="1"><mesh><vertices>{vertices}</vertices><triangles>{sides}</triangles></mesh></object>'
        "</resources></model>"
    )
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w", zipfile.ZIP_DEFLATED) as package:
        package.writestr("3D/3dmodel.model", model)
    return data.getvalue()


class Models(unittest.TestCase):
    def test_the_same_model_is_read_alike_from_every_form(self) -> None:
        moved = [tuple(tuple(v * 20 - 7 for v in corner) for corner in triangle) for triangle in CUBE]
        for data, kind in ((binary_stl(moved), "stl"), (text_stl(moved), "stl"), (three_mf(moved), "3mf")):
            with self.subTest(kind=kind):
                found = read_solid(data)
                self.assertEqual((found.kind, found.triangles.shape), (kind, (4, 3, 3)))
                self.assertEqual(tuple(round(v, 4) for v in found.size_mm), (20, 20, 20))
                self.assertEqual(found.triangles.min(), 0, "it stands in the corner, on the ground")

    def test_units_of_a_3mf_are_brought_to_millimetres(self) -> None:
        for unit, size in (("inch", 25.4), ("centimeter", 10), ("micron", 0.001), ("meter", 1000)):
            self.assertAlmostEqual(read_solid(three_mf(CUBE, unit)).size_mm[0], size, places=3)

    def test_objects_of_a_3mf_stand_where_its_build_puts_them(self) -> None:
        parts = three_mf(CUBE)
        with zipfile.ZipFile(io.BytesIO(parts)) as package:
            text = package.read("3D/3dmodel.model").decode()
        twice = (
            '<object id="2"><components><component objectid="1"/>'
            '<component objectid="1" transform="1 0 0 0 1 0 0 0 1 9 0 0"/></components></object></resources>'
            '<build><item objectid="2" transform="0 2 0 -2 0 0 0 0 2 100 0 0"/></build>'
        )
        endless = text.replace("<mesh>", '<components><component objectid="1"/></components><mesh>')
        for words, found in ((text.replace("</resources>", twice), (2, 20, 2)), (endless, None)):
            data = io.BytesIO()
            with zipfile.ZipFile(data, "w") as package:
                package.writestr("3D/3dmodel.model", words)
            if found is None:
                with self.assertRaisesRegex(NotAMesh, "without end"):
                    read_solid(data.getvalue())
            else:
                solid = read_solid(data.getvalue())
                self.assertEqual(len(solid.triangles), 2 * len(CUBE))
                self.assertEqual(tuple(round(v, 3) for v in solid.size_mm), found)

    def test_what_is_no_model_is_refused_in_a_sentence(self) -> None:
        cases = {
            b"": "neither an STL nor a 3MF",
            b"G28\nG1 X1\n": "neither an STL nor a 3MF",
            binary_stl(CUBE)[:-1]: "cut short",
            binary_stl([]): "no triangle",
            b"solid x\nfacet\nvertex 1 2 three\n": "no number",
            text_stl([((0.0, 0.0, float("nan")),) * 3]): "no numbers|no number",
            three_mf(CUBE)[:-30]: "damaged",
            three_mf(CUBE).replace(b"3D/3dmodel.model", b"3D/3dmodel.other"): "holds no model|damaged",
            three_mf(CUBE, extra='<!DOCTYPE m [<!ENTITY a "b">]>'): "document type",
            three_mf([((0, 0, 0), (1, 0, 0), (1, 1, 0))]).replace(b"PK\x03\x04", b"PK\x03\x05", 1): "neither",
        }
        for data, words in cases.items():
            with self.subTest(words=words, data=data[:20]), self.assertRaisesRegex(NotAMesh, words):
                read_solid(data)

    def test_triangles_that_name_no_corner_are_refused(self) -> None:
        data = io.BytesIO()
        mesh = '<mesh><vertices><vertex x="0" y="0" z="0"/></vertices><triangles><triangle v1="0" v2="1" v3="9"/></triangles></mesh>'  # noqa: E501
        with zipfile.ZipFile(data, "w") as package:
            package.writestr("m.model", f"<model><object>{mesh}</object></model>")
        with self.assertRaisesRegex(NotAMesh, "corners it has not"):
            read_solid(data.getvalue())

    @settings(max_examples=200)
    @given(st.binary(max_size=400), st.sampled_from([b"", b"solid ", b"PK\x03\x04", b"\0" * 80 + b"\x02\0\0\0"]))
    def test_any_bytes_are_a_model_or_refused(self, data: bytes, head: bytes) -> None:
        try:
            self.assertGreater(len(read_solid(head + data).triangles), 0)
        except NotAMesh as error:
            self.assertTrue(str(error).endswith("."), error)

    def test_the_demos_own_models_are_as_large_as_what_their_files_lay(self) -> None:
        for part in PARTS:
            with self.subTest(part=part.name):
                wide, deep, high = read_solid(stl(part)).size_mm
                section = np.array(part.section(0.0).walls(0)[0])
                self.assertAlmostEqual(high, part.height_mm, places=3)
                self.assertGreaterEqual(wide + 0.1, np.ptp(section[:, 0]))
                self.assertGreaterEqual(deep + 0.1, np.ptp(section[:, 1]))


if __name__ == "__main__":
    unittest.main()
