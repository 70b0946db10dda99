"""Local cameras are found by the names that hold their serial numbers."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from chronarch.core.watching.camera_address import parse_camera_address
from chronarch.tender.peripherals.local_cameras import local_cameras


class Found(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "by-id"
        self.folder.mkdir()

    def plug_in(self, *names: str) -> None:
        for name in names:
            (self.folder / name).write_text("")

    def test_each_is_listed_once_with_its_serial_number(self) -> None:
        self.plug_in(
            "usb-Lantern_Eye_0007-video-index0", "usb-Lantern_Eye_0007-video-index1",
            "usb-Lantern_Eye_0008-video-index0", "usb-Wide_Eye-video-index0", "readme.txt",
        )  # fmt: skip
        found = local_cameras(self.folder)
        self.assertEqual(
            [(c.name, c.serial) for c in found], [("Lantern Eye", "0007"), ("Lantern Eye", "0008"), ("Wide", "Eye")]
        )
        for camera in found:
            address = parse_camera_address(camera.address)
            self.assertEqual((address.kind, Path(address.device).parent), ("device", self.folder))

    def test_one_that_was_pulled_out_is_not_there(self) -> None:
        (self.folder / "usb-Lantern_Eye_0007-video-index0").symlink_to("../../video3")
        self.assertEqual(local_cameras(self.folder), [])
        self.assertEqual(local_cameras(self.folder / "none"), [])

    def test_a_full_house_is_listed_as_far_as_it_goes(self) -> None:
        self.plug_in(*(f"usb-Eye_{n:04d}-video-index0" for n in range(300)))
        self.assertEqual(len(local_cameras(self.folder)), 200)


if __name__ == "__main__":
    unittest.main()
