"""Frames that are kept: which, where in the build they are, for how long, and what happens when there is no room."""

from __future__ import annotations

import itertools
import json
import os
import signal
import unittest
from collections import Counter
from datetime import timedelta

from websockets.sync.client import connect

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.core.watching.frame_keeping import FrameReason
from chronarch.wire.orders.builds import Build
from chronarch.wire.watching.camera_messages import CameraHello, FrameHead, KeptAs, pack_frame
from chronarch.wire.watching.frames import KeptFrame
from chronarch.wire.watching.settings import WatchingUpdate
from tests.service.watching.test_cameras import size_of
from tests.support.gcode import squares
from tests.support.pictures import jpeg
from tests.support.world import WorldCase, eventually

LAYERS = 6
TEXT = squares(layers=LAYERS, rounds=20, side=50, feed=1500)


class Frames(WorldCase):
    machines = ("Anchor",)
    cameras = True
    rate = 100.0

    @classmethod
    def prepare(cls) -> None:
        cls.world.start()
        cls.world.add_file("seen.gcode", TEXT)
        cls.world.client.do(requests.change_watching(WatchingUpdate(keep_every_s=20)))

    def setUp(self) -> None:
        eventually(lambda: self.world.client.do(requests.camera("Anchor")).frame_at, "the camera gives pictures")

    def frames(self, build: Build) -> list[KeptFrame]:
        return self.world.client.all(requests.frames_of_build(build.id))

    def build(self) -> Build:
        self.clear("Anchor")
        build = self.world.build_of(self.world.submit("seen.gcode", machine="Anchor"))
        self.world.until("Anchor", MachineState.BUILDING)
        return build

    def kept(self, build: Build, why: FrameReason) -> KeptFrame:
        """A frame of a build that was kept for this reason."""
        return eventually(lambda: [f for f in self.frames(build) if f.why is why], f"a frame is kept for {why}")[-1]

    def test_a_build_has_frames_of_its_start_its_layers_its_pauses_its_end_and_its_verdict(self) -> None:
        w = self.world
        build = self.build()
        w.taken("Anchor", 100)
        w.client.do(requests.pause(build.id, "to look"))
        self.kept(build, FrameReason.PAUSE)
        w.client.do(requests.resume(build.id))
        w.until("Anchor", MachineState.UNCLEARED, 120)
        end = self.kept(build, FrameReason.END)
        w.client.do(requests.verdict(build.id, Verdict.GOOD))
        verdict = self.kept(build, FrameReason.VERDICT)
        found = self.frames(build)
        whys = Counter(f.why for f in found)
        self.assertEqual(whys[FrameReason.START], 1)
        self.assertGreaterEqual(len({f.layer for f in found if f.why is FrameReason.LAYER}), LAYERS - 2)
        self.assertGreater(whys[FrameReason.TIME], 0, "and as time passes")
        for before, after in itertools.pairwise(found):
            self.assertLessEqual((before.at, before.command), (after.at, after.command))
        self.assertEqual((end.layer, end.command), (LAYERS, w.client.do(requests.build(build.id)).acknowledged))
        self.assertEqual((found[-1].number, found[0].camera), (verdict.number, "Anchor"))
        self.assertEqual(size_of(w.client.do(requests.kept_frame(end.number))), (640, 480))
        once_more = self.frames(build)
        self.assertEqual(len({f.number for f in once_more}), len(once_more))
        by_camera = w.client.all(requests.frames_of_camera("Anchor", begin=found[0].at, end=end.at))
        self.assertIn(found[0].number, [f.number for f in by_camera])

    def test_frames_are_kept_while_the_service_is_away_and_none_twice(self) -> None:
        w = self.world
        build = self.build()
        self.kept(build, FrameReason.START)
        w.kill("service")
        spool = w.folder / "tender" / "frames"
        eventually(lambda: len(list(spool.glob("*.frame"))) >= 3, "the tender keeps frames itself")
        w.start_service()
        eventually(lambda: not list(spool.glob("*.frame")) or w.state("Anchor"), "they are handed on")
        w.until("Anchor", MachineState.UNCLEARED, 120)
        self.kept(build, FrameReason.END)
        eventually(lambda: not list(spool.glob("*.frame")), "the service has them all")
        times = [f.at for f in self.frames(build)]
        self.assertEqual(len(times), len(set(times)), "none is there twice")
        self.assertGreaterEqual(len({f.layer for f in self.frames(build)}), LAYERS - 2)

    def test_a_frame_that_is_sent_again_is_there_once(self) -> None:
        """As by a tender that has not heard that the service has it."""
        w = self.world
        taken_at = w.client.do(requests.shop()).now - timedelta(days=1)
        kept = KeptAs(id="17", why=FrameReason.TIME, build=None, layer=0, command=0)
        head = FrameHead(camera="Anchor", size="full", taken_at=taken_at, at=taken_at, width=8, height=6, kept=kept)
        url = w.address.replace("http", "ws", 1) + "/api/tender/cameras"
        self.addCleanup(self.watch_again)
        with connect(url, additional_headers={"Authorization": f"Bearer {w.tender_key}"}, proxy=None) as socket:
            socket.send(CameraHello(tender="tender").model_dump_json())
            for times in (1, 1, 3):
                for _ in range(times):
                    socket.send(pack_frame(head, jpeg(90)))
                said: list[str] = []
                while len(said) < times:
                    message = json.loads(socket.recv(timeout=60))
                    said += message["ids"] if message["kind"] == "kept" else []
                self.assertEqual(said, ["17"] * times, "the tender may forget it")
        around = timedelta(seconds=1)
        found = w.client.all(requests.frames_of_camera("Anchor", begin=taken_at - around, end=taken_at + around))
        self.assertEqual([frame.at for frame in found], [taken_at])

    def watch_again(self) -> None:
        """Another camera process takes the place of that which is there."""
        camera = lambda: self.world.client.do(requests.camera("Anchor"))  # noqa: E731
        os.kill(self.world.camera_process(), signal.SIGKILL)
        before = camera().frame_at
        eventually(lambda: camera().frame_at not in (None, before) and camera().trouble is None, "it is watched again")

    def test_frames_are_thinned_with_age_and_the_first_and_last_of_a_build_stay(self) -> None:
        w = self.world
        build = self.build()
        w.until("Anchor", MachineState.UNCLEARED, 120)
        self.kept(build, FrameReason.END)
        w.client.do(requests.verdict(build.id, Verdict.GOOD))
        self.kept(build, FrameReason.VERDICT)
        all_of_them = self.frames(build)
        paths = len(list((w.folder / "blobs" / "frames").rglob("*")))
        for age, left in (
            (timedelta(hours=2), "minutes"),
            (timedelta(days=2), "layers"),
            (timedelta(days=40), "first and last"),
        ):
            shift = "timestampadd(second, -:s, {0})"
            w.sql(f"update frame set at = {shift.format('at')}", s=age.total_seconds())
            older = f"update frame set keep_until = {shift.format('keep_until')} where keep_until < '9000-01-01'"
            w.sql(older, s=age.total_seconds())
            eventually(self.thinned, f"what is {age} old is thinned")
            found = self.frames(build)
            with self.subTest(left):
                if left == "layers":
                    whys = {f.why for f in found} - {FrameReason.TIME}
                    self.assertGreaterEqual(whys, {FrameReason.LAYER, FrameReason.VERDICT})
                    self.assertGreaterEqual(len({f.layer for f in found}), LAYERS - 2)
                if left == "first and last":
                    self.assertEqual({f.why for f in found} & {FrameReason.LAYER, FrameReason.TIME}, set())
                    numbers = [f.number for f in found]
                    self.assertIn(all_of_them[0].number, numbers)
                    self.assertIn(all_of_them[-1].number, numbers)
        self.assertLess(len(found), len(all_of_them))
        fewer = lambda: len(list((w.folder / "blobs" / "frames").rglob("*"))) < paths  # noqa: E731
        eventually(fewer, "their bytes are gone")
        with self.assertRaises(RefusedByService):
            gone = next(f for f in all_of_them if f.number not in numbers)
            w.client.do(requests.kept_frame(gone.number))

    def thinned(self) -> bool:
        w = self.world
        now = w.client.do(requests.shop()).now.replace(tzinfo=None)
        return w.rows("select count(*) from frame where keep_until < :now", now=now) == [(0,)]

    def test_what_keeping_costs_is_told_before_it_is_set_and_the_share_of_the_disk_is_kept(self) -> None:
        w = self.world
        seldom, often = (w.client.do(requests.frame_cost(s)) for s in (3600.0, 5.0))
        self.assertGreater(often.lasting_gb, seldom.lasting_gb)
        self.assertGreater(often.frame_kb, 5)
        self.build()
        eventually(lambda: w.client.do(requests.frame_cost()).frames > 3, "frames are kept")
        w.sql("update frame set size = 60000000")
        w.client.do(requests.change_watching(WatchingUpdate(frames_gb=0.1)))
        self.addCleanup(lambda: w.client.do(requests.change_watching(WatchingUpdate(frames_gb=20))))
        eventually(lambda: w.client.do(requests.frame_cost()).now_gb <= 0.1, "the oldest go")


if __name__ == "__main__":
    unittest.main()
