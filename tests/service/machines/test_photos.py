"""Photos of machines, and which way their axes go."""

from __future__ import annotations

from pathlib import Path

import httpx

from chronarch.client import RefusedByService, requests
from tests.support import processes
from tests.support.pictures import jpeg
from tests.support.world import WorldCase


class Photos(WorldCase):
    def photos(self) -> list[Path]:
        """What is kept by content in the world's folder: it has no files."""
        return [path for path in (self.world.folder / "blobs").glob("??/*") if len(path.name) == 64]

    def test_a_machine_has_a_photo_another_and_none(self) -> None:
        do = self.world.client.do
        self.assertEqual(do(requests.machine("Anchor")).photo, "")
        with self.assertRaisesRegex(RefusedByService, "There is no photo of Anchor"):
            do(requests.machine_photo("Anchor"))
        first = do(requests.put_machine_photo("Anchor", jpeg(90))).photo
        self.assertEqual(do(requests.machine_photo("Anchor")), jpeg(90))
        path = self.world.folder / "anchor.png"
        path.write_bytes(jpeg(90, kind="PNG"))
        done = processes.run("machines", "photo", "Anchor", str(path), env=self.world.environment)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertNotIn(do(requests.machine("Anchor")).photo, ("", first))
        headers = {"Authorization": f"Bearer {self.world.read_key}"}
        got = httpx.get(f"{self.world.address}/api/machines/Anchor/photo", headers=headers)
        self.assertEqual((got.headers["content-type"], got.content), ("image/png", jpeg(90, kind="PNG")))
        with self.assertRaisesRegex(RefusedByService, "neither a JPEG nor a PNG"):
            do(requests.put_machine_photo("Anchor", b"<svg/>"))
        kept = self.photos()
        self.assertEqual(len(kept), 1, "the one before is kept no longer")
        self.assertEqual(do(requests.remove_machine_photo("Anchor")).photo, "")
        self.assertEqual(self.photos(), [])
        self.assertFalse(self.world.rows("select sha256 from `blob` where sha256 = :it", it=kept[0].name))
        done = processes.run("machines", "photo", "Anchor", env=self.world.environment)
        self.assertEqual(done.returncode, 2)
        self.assertIn("one of both", done.stderr)

    def test_the_ways_of_its_axes_are_its_own(self) -> None:
        do = self.world.client.do
        self.assertEqual(do(requests.machine("Anchor")).model_detail.reversed_axes, "")
        changed = do(requests.change_machine("Anchor", reversed_axes="y"))
        self.assertEqual(changed.model_detail.reversed_axes, "y")
        self.assertEqual(do(requests.models())[0].reversed_axes, "", "the model stays what it is")
        do(requests.change_machine("Anchor", reversed_axes=""))
        self.assertEqual(do(requests.machine("Anchor")).model_detail.reversed_axes, "")
