"""What holds the event loop is seen, and said where it is."""

from __future__ import annotations

import asyncio
import time
import unittest

from chronarch.core.clock import real_clock
from chronarch.demo.shop import PARTS
from chronarch.demo.slicer import slice_part
from chronarch.service import loop_watch
from chronarch.service.loop_watch import LoopWatch


class Watch(unittest.IsolatedAsyncioTestCase):
    async def test_a_hold_is_seen_with_its_place_and_how_long_it_computed(self) -> None:
        watch = LoopWatch(real_clock())
        watch.start()
        self.addCleanup(watch.stop)
        await asyncio.sleep(0.05)
        end = time.thread_time() + 0.4
        while time.thread_time() < end:
            "".join(slice_part(PARTS[0]))
        await asyncio.sleep(0.05)
        worst = watch.worst()
        assert worst is not None
        self.assertGreaterEqual(worst.busy_s, 0.3)
        self.assertGreaterEqual(worst.held_s, worst.busy_s - 0.05)
        self.assertRegex(worst.where, r"^demo/(slicer|shapes)\.py:\d+ ")

    async def test_waiting_is_no_hold(self) -> None:
        watch = LoopWatch(real_clock())
        watch.start()
        self.addCleanup(watch.stop)
        await asyncio.sleep(0.3)
        worst = watch.worst()
        self.assertLess(worst.busy_s if worst else 0.0, loop_watch.HELD_S)


if __name__ == "__main__":
    unittest.main()
