"""One camera watched: how often it is asked, which frames are kept and why, and what is told when there are none."""

from __future__ import annotations

import asyncio
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from unittest.mock import patch

from chronarch.core.clock import ScaledClock
from chronarch.core.watching.camera_address import parse_camera_address
from chronarch.core.watching.camera_settings import CameraSettings
from chronarch.core.watching.frame_keeping import FrameReason, KeptPlace
from chronarch.core.watching.frame_rates import FrameRates
from chronarch.tender.peripherals import camera_watcher
from chronarch.tender.peripherals.camera_sources.source import CameraFailed, CameraSetup
from chronarch.tender.peripherals.camera_watcher import CameraWatcher, Outlet, try_camera
from chronarch.wire.watching.camera_messages import FrameHead, KeptAs, WatchedCamera
from tests.support.pictures import jpeg
from tests.support.raw_http import RawDevice, answer

PICTURE = answer(jpeg(40, width=640))
GONE = answer(b"", "text/plain", "503 Busy")


class Watched(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.device = RawDevice(PICTURE)
        await self.device.__aenter__()
        self.addAsyncCleanup(self.device.__aexit__)
        self.encoder = ThreadPoolExecutor(1)
        self.addCleanup(self.encoder.shutdown)
        self.handed: list[FrameHead] = []
        self.kept: list[KeptAs] = []
        self.told: list[tuple[str, datetime]] = []
        self.rates = FrameRates(budget=1.0)

    def setup(self, rate: float = 1.0) -> CameraSetup:
        clock = ScaledClock(datetime.now(UTC), datetime(2026, 10, 19, 9, tzinfo=UTC), rate)
        address = parse_camera_address(f"http://127.0.0.1:{self.device.port}/frame.jpg")
        return CameraSetup(address, CameraSettings(), clock)

    async def watch(self, machine: str = "Anchor", rate: float = 1.0, keep_every_s: float = 1000.0) -> CameraWatcher:
        async def hand_on(head: FrameHead, picture: bytes) -> None:
            self.handed.append(head)

        async def tell(name: str, trouble: str, since: datetime) -> None:
            self.told.append((trouble, since))

        async def keep(head: FrameHead, kept: KeptAs, picture: bytes) -> None:
            self.kept.append(kept)

        setup = self.setup(rate)
        camera = WatchedCamera(name="Anchor front", machine=machine, settings=setup.settings, address=setup.address.url)
        outlet = Outlet(hand_on, tell, keep, keep_every_s)
        watcher = CameraWatcher(camera, setup, self.rates, self.encoder, outlet)
        task = asyncio.create_task(watcher.run())

        async def stop() -> None:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

        self.addAsyncCleanup(stop)
        return watcher

    async def until(self, done: Callable[[], object]) -> None:
        async with asyncio.timeout(30):
            while not done():  # noqa: ASYNC110
                await asyncio.sleep(0.01)

    async def test_nobody_looks_and_a_frame_of_each_size_comes_seldom(self) -> None:
        await self.watch()
        await self.until(lambda: len(self.handed) == 2)
        self.assertEqual([head.size for head in self.handed], ["full", "small"])
        self.assertEqual([(head.width, head.height) for head in self.handed], [(640, 48), (480, 36)])
        await asyncio.sleep(0.6)
        self.assertEqual(len(self.device.asked), 1, "the next one is due in five seconds")

    async def test_somebody_looks_and_frames_come_at_once_as_often_as_asked(self) -> None:
        watcher = await self.watch()
        await self.until(lambda: len(self.device.asked) == 1)
        watcher.look(20.0, 0.0)
        await self.until(lambda: len(self.handed) >= 12)
        full = [head for head in self.handed if head.size == "full"]
        self.assertLess(len(self.handed) - len(full), len(full) / 2, "only what is looked at is made")
        asked = len(self.device.asked)
        watcher.look(0.0, 0.0)
        await asyncio.sleep(0.7)
        self.assertLessEqual(len(self.device.asked) - asked, 2, "nobody looks any more")

    async def test_a_budget_that_is_used_up_makes_them_seldom(self) -> None:
        self.rates.factor = 0.02
        watcher = await self.watch()
        watcher.look(20.0, 0.0)
        await self.until(lambda: len(self.device.asked) >= 1)
        await asyncio.sleep(0.8)
        self.assertLessEqual(len(self.device.asked), 2)

    async def test_what_happens_is_kept_at_once_with_its_place(self) -> None:
        watcher = await self.watch()
        await self.until(lambda: self.handed)
        self.assertEqual(self.kept, [], "its machine does nothing")
        place = KeptPlace(build=7, layer=3, command=120)
        watcher.follow(place, working=True, why=FrameReason.LAYER)
        await self.until(lambda: self.kept)
        (kept,) = self.kept
        self.assertEqual((kept.why, kept.build, kept.layer, kept.command), (FrameReason.LAYER, 7, 3, 120))

    async def test_of_several_reasons_the_gravest_names_the_frame(self) -> None:
        watcher = await self.watch()
        await self.until(lambda: self.handed)
        for command, why in enumerate((FrameReason.LAYER, FrameReason.FAULT, FrameReason.PAUSE, FrameReason.LAYER)):
            watcher.follow(KeptPlace(build=7, layer=3, command=command), working=True, why=why)
        await self.until(lambda: self.kept)
        self.assertEqual([(kept.why, kept.command) for kept in self.kept], [(FrameReason.FAULT, 1)])

    async def test_frames_are_kept_as_shop_time_passes_while_the_machine_works(self) -> None:
        watcher = await self.watch(rate=100.0, keep_every_s=30.0)
        await self.until(lambda: self.handed)
        watcher.follow(KeptPlace(build=7, layer=1, command=5), working=True, why=None)
        watcher.look(20.0, 0.0)
        await self.until(lambda: len(self.kept) >= 3)
        self.assertEqual({kept.why for kept in self.kept}, {FrameReason.TIME})
        self.assertLess(len(self.kept), len(self.device.asked), "not each that is looked at")

    async def test_a_room_is_kept_although_no_machine_works(self) -> None:
        await self.watch(machine="", rate=100.0, keep_every_s=30.0)
        await self.until(lambda: len(self.kept) >= 2)
        self.assertEqual({(kept.why, kept.build) for kept in self.kept}, {(FrameReason.TIME, None)})

    async def test_a_camera_that_fails_is_asked_again_and_told_of_once(self) -> None:
        with patch.object(camera_watcher, "WAITS_S", (0.05, 0.1)):
            self.device.answer = GONE
            watcher = await self.watch()
            await self.until(lambda: len(self.device.asked) >= 3)
            self.assertEqual(len(self.told), 1, "the same trouble is told once")
            trouble, since = self.told[0]
            self.assertIn("it answers 503 Busy", trouble)
            self.device.answer = answer(b"<p>", "text/html")
            await self.until(lambda: len(self.told) == 2)
            self.assertIn("text/html", self.told[1][0])
            self.assertEqual(self.told[1][1], since, "another reason is no other trouble: it has failed since then")
            await watcher.say_again()
            self.assertEqual(self.told[2], self.told[1])
            self.device.answer = PICTURE
            await self.until(lambda: self.handed)
            await self.until(lambda: len(self.told) == 4)
            self.assertEqual(self.told[3][0], "")
            self.assertGreater(self.told[3][1], since)

    async def test_a_service_that_takes_no_picture_costs_none_that_is_kept(self) -> None:
        watcher = await self.watch()
        await self.until(lambda: len(self.handed) == 2)
        stuck = asyncio.Event()

        async def never(head: FrameHead, picture: bytes) -> None:
            stuck.set()
            await asyncio.Event().wait()

        watcher._outlet.hand_on = never
        watcher.look(20.0, 0.0)
        watcher.follow(KeptPlace(build=7, layer=3, command=1), working=True, why=FrameReason.PAUSE)
        await self.until(stuck.is_set)
        self.assertEqual([kept.why for kept in self.kept], [FrameReason.PAUSE])

    # Trying --------------------------------------------------------------------------------------------------

    async def test_trying_gives_the_picture_and_what_should_be_known(self) -> None:
        tried = await try_camera(self.setup(), self.encoder)
        self.assertEqual((tried.picture.width, tried.warning), (640, ""))
        self.assertLess(tried.took_s, 5)
        answers = iter([PICTURE, GONE])

        async def one_then_none(head: str, writer: asyncio.StreamWriter) -> None:
            writer.write(next(answers))

        self.device.answer = one_then_none
        tried = await try_camera(self.setup(), self.encoder)
        self.assertIn("one frame came, and then none: it answers 503", tried.warning)

    async def test_trying_a_slow_one_says_how_slow_it_is(self) -> None:
        first = True

        async def slow(head: str, writer: asyncio.StreamWriter) -> None:
            nonlocal first
            if not first:
                await asyncio.sleep(2.3)
            first = False
            writer.write(PICTURE)

        self.device.answer = slow
        tried = await try_camera(self.setup(), self.encoder)
        self.assertRegex(tried.warning, "one frame in [2-9] s: what moves will not be seen to move")

    async def test_trying_a_damaged_picture_says_so(self) -> None:
        whole = jpeg(40, width=640)
        self.device.answer = answer(whole[: len(whole) // 2])
        with self.assertRaisesRegex(CameraFailed, "damaged or cut short"):
            await try_camera(self.setup(), self.encoder)


if __name__ == "__main__":
    unittest.main()
