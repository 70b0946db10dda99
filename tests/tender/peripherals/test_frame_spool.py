"""Frames on the tender's disk until the service has them."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

from chronarch.tender.peripherals.frame_spool import FrameSpool
from chronarch.wire.watching.camera_messages import unpack_frame
from tests.support.frames import HEAD, kept_as


class Spooled(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "tender" / "frames"
        self.told: list[str] = []

    def spool(self, most_bytes: int = 10**9) -> FrameSpool:
        return FrameSpool(self.folder, self.told.append, most_bytes)

    def keep(self, spool: FrameSpool, layer: int, jpeg: bytes = b"\xff\xd8\xff picture") -> None:
        spool.keep(HEAD, kept_as(layer), jpeg)

    def layers(self, spool: FrameSpool) -> list[int]:
        frames = [spool.read(name) for name in spool.waiting()]
        return [kept.layer for frame in frames if frame and (kept := unpack_frame(frame)[0].kept)]

    def test_frames_wait_in_order_and_go_once_the_service_has_them(self) -> None:
        spool = self.spool()
        for layer in (1, 2, 3):
            self.keep(spool, layer)
        self.assertEqual(self.layers(spool), [1, 2, 3])
        head, jpeg = unpack_frame(spool.read(spool.waiting()[1]) or b"")
        assert head.kept is not None
        self.assertEqual(
            (jpeg, head.kept.why, head.kept.build, head.kept.command), (b"\xff\xd8\xff picture", "layer", 7, 20)
        )
        spool.forget([spool.waiting()[0], "never there"])
        self.assertEqual(self.layers(spool), [2, 3])
        self.assertEqual(len(list(self.folder.iterdir())), 2)

    def test_nothing_is_on_the_disk_before_there_is_a_frame(self) -> None:
        self.assertEqual(self.spool().waiting(), [])
        self.assertFalse(self.folder.exists())

    def test_a_new_process_takes_them_up_and_numbers_go_on(self) -> None:
        first = self.spool()
        self.keep(first, 1)
        self.keep(first, 2)
        (self.folder / "000000000009.new").write_bytes(b"half a fra")
        again = self.spool()
        self.assertEqual(self.layers(again), [1, 2])
        self.assertEqual(list(self.folder.glob("*.new")), [], "what was half written when it died is gone")
        self.keep(again, 3)
        self.assertEqual(self.layers(again), [1, 2, 3])
        self.assertEqual(len(set(again.waiting())), 3)

    def test_the_oldest_go_when_it_is_full_and_that_is_told_once(self) -> None:
        spool = self.spool(most_bytes=4200)
        for layer in range(1, 7):
            self.keep(spool, layer, b"\xff\xd8\xff" + b"." * 1000)
        self.assertEqual(self.layers(spool), [4, 5, 6])
        self.assertEqual(len(self.told), 1)
        self.assertIn("dropped the oldest frames", self.told[0])
        spool.forget(spool.waiting())
        self.keep(spool, 7)
        self.assertEqual(self.told[1:], [""], "it is right again")

    def test_a_frame_that_somebody_took_away_is_passed_over(self) -> None:
        spool = self.spool()
        self.keep(spool, 1)
        self.keep(spool, 2)
        first, second = spool.waiting()
        next(iter(sorted(self.folder.iterdir()))).unlink()
        self.assertIsNone(spool.read(first))
        self.assertEqual(spool.waiting(), [second])

    def test_where_no_frame_can_be_kept_people_are_told_and_nothing_stops(self) -> None:
        self.folder.parent.mkdir(parents=True)
        self.folder.write_text("a file stands in the way")
        spool = self.spool()
        self.keep(spool, 1)
        self.assertEqual(spool.waiting(), [])
        self.assertIn("frames cannot be kept at the tender", self.told[0])
        self.folder.unlink()
        self.keep(spool, 2)
        self.assertEqual((self.layers(spool), self.told[1:]), ([2], [""]))

    def test_a_disk_that_is_nearly_full_keeps_none(self) -> None:
        spool = self.spool()
        with patch("chronarch.tender.peripherals.frame_spool.LEAST_FREE", 10**18):
            self.keep(spool, 1)
            self.keep(spool, 2)
        self.assertEqual(spool.waiting(), [])
        self.assertEqual(self.told, ["the tender's disk is nearly full: frames are not kept until there is room"])


if __name__ == "__main__":
    unittest.main()
