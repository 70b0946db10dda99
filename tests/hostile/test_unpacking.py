"""What is small when it comes and huge when it is unpacked: refused early, beside the service's other work."""

from __future__ import annotations

import gzip
import io
import tracemalloc
import unittest
import zipfile
import zlib

import httpx
import zstandard

from chronarch.core.errors import NotGcode, TooLarge
from chronarch.core.gcode.decompress import PIECE, Unpacker, unpack
from chronarch.core.library.mesh import NotAMesh, read_solid
from tests.support.gcode import squares
from tests.support.world import WorldCase

MESH = (
    '<mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="1" y="0" z="0"/><vertex x="0" y="1" z="1"/></vertices>'
    '<triangles><triangle v1="0" v2="1" v3="2"/></triangles></mesh>'
)


def bomb(kind: str, size: int) -> bytes:
    """So many spaces, packed."""
    if kind == "zstd":
        packer = zstandard.ZstdCompressor(19).compressobj()
        return b"".join(packer.compress(b" " * PIECE) for _ in range(size // PIECE)) + packer.flush()
    pack = zlib.compressobj(9, wbits=31)
    return b"".join(pack.compress(b" " * PIECE) for _ in range(size // PIECE)) + pack.flush()


def package(model: str, *others: tuple[str, bytes]) -> bytes:
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("3D/3dmodel.model", model)
        for name, content in others:
            out.writestr(name, content)
    return data.getvalue()


def made_of_itself(depth: int, times: int) -> bytes:
    """A package whose every object is so many of the one before."""
    objects = f'<object id="0">{MESH}</object>'
    for n in range(1, depth + 1):
        components = f'<component objectid="{n - 1}"/>' * times
        objects += f'<object id="{n}"><components>{components}</components></object>'
    return package(f'<model><resources>{objects}</resources><build><item objectid="{depth}"/></build></model>')


class Bounds(unittest.TestCase):
    def test_what_becomes_far_more_than_it_is_is_refused_before_it_fills_memory(self) -> None:
        for kind in ("gzip", "zstd"):
            with self.subTest(kind=kind):
                data = bomb(kind, 96 << 20)
                self.assertLess(len(data), 1 << 20)
                tracemalloc.start()
                try:
                    with self.assertRaisesRegex(NotGcode, "200 times as large"):
                        for _ in Unpacker(1 << 40).feed(data):
                            pass
                    self.assertLess(tracemalloc.get_traced_memory()[1], 150 << 20)
                finally:
                    tracemalloc.stop()

    def test_what_becomes_more_than_is_taken_is_refused(self) -> None:
        for kind in ("gzip", "zstd"):
            with self.subTest(kind=kind), self.assertRaisesRegex(TooLarge, "larger than the 10 MB"):
                unpack(bomb(kind, 32 << 20), 10_000_000)

    def test_real_files_pack_far_below_the_bound(self) -> None:
        text = squares(layers=400).encode()
        for packed in (gzip.compress(text, 9), zstandard.compress(text, 19)):
            self.assertEqual(unpack(packed), text)

    def test_instances_are_counted_before_they_are_made(self) -> None:
        """Ten objects, each ten times the one before: ten thousand million triangles in 3 kB."""
        with self.assertRaisesRegex(NotAMesh, "over 5,000,000 triangles"):
            read_solid(made_of_itself(10, 10))
        self.assertEqual(len(read_solid(made_of_itself(3, 10)).triangles), 1000)

    def test_objects_made_of_each_other_are_refused(self) -> None:
        objects = '<object id="1"><components><component objectid="2"/></components></object>'
        objects += '<object id="2"><components><component objectid="1"/></components></object>'
        with self.assertRaisesRegex(NotAMesh, "without end"):
            read_solid(package(f"<model><resources>{objects}</resources></model>"))

    def test_a_package_is_no_larger_than_a_model_is(self) -> None:
        fat = package("<model>" + " " * (30 << 20) + "</model>")
        self.assertLess(len(fat), 1 << 20)
        many = package(f"<model>{MESH}</model>", *((f"x{n}", b"") for n in range(10_001)))
        for data in (fat, many):
            with self.assertRaisesRegex(NotAMesh, "unpacks to far more"):
                read_solid(data)

    def test_a_document_type_is_refused_before_it_is_followed(self) -> None:
        laughs = '<!DOCTYPE m [<!ENTITY a "ha"><!ENTITY b "&a;&a;&a;&a;&a;&a;">]>'
        with self.assertRaisesRegex(NotAMesh, "document type"):
            read_solid(package(f"{laughs}<model>&b;</model>"))


class AtTheDoor(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()
        headers = {"Authorization": f"Bearer {cls.world.key}", "Prefer": "wait=90"}
        cls.http = httpx.Client(base_url=cls.world.address, headers=headers, timeout=120)
        cls.addClassCleanup(cls.http.close)

    http: httpx.Client

    def test_bombs_are_refused_with_a_reason_and_nothing_is_left_of_them(self) -> None:
        arriving = self.world.folder / "blobs" / "arriving"
        for kind, ending in (("gzip", "gz"), ("zstd", "zst")):
            with self.subTest(kind=kind):
                answer = self.http.put(f"/api/drop/bomb.gcode.{ending}", content=bomb(kind, 96 << 20))
                self.assertEqual(answer.status_code, 422)
                self.assertIn("200 times as large", answer.json()["detail"])
        self.assertEqual(list(arriving.iterdir()), [])
        good = self.http.put("/api/drop/good.gcode.gz", content=gzip.compress(squares(layers=3).encode()))
        self.assertEqual(good.status_code, 201, good.text)

    def test_a_model_that_is_made_of_itself_a_thousand_million_times_is_refused(self) -> None:
        part = self.http.post("/api/parts", json={"name": "clip"}).json()["id"]
        data = made_of_itself(5, 100)
        answer = self.http.put(f"/api/parts/{part}/model", params={"name": "clip.3mf"}, content=data)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("triangles", answer.json()["detail"])


if __name__ == "__main__":
    unittest.main()
