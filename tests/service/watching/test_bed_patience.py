"""How long a bed that cannot be seen keeps work away: with a clock and a camera in the test's hands."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace
from typing import Any, cast
from unittest import mock

from chronarch.core.machines.states import MachineState
from chronarch.core.watching.watch_rules import WatchRule
from chronarch.service.changes import Changes
from chronarch.service.watching import bed_watching
from chronarch.service.watching.bed_watching import BedWatching
from chronarch.service.watching.watch_messages import Looked

NOON = datetime(2026, 10, 19, 12, tzinfo=UTC)
CLEAR, DARK = Looked("", (), 0, 0.0), Looked("It is too dark to see the bed. Turn a light on.", (), 0, 0.0)


class Waiting(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.passed_s = 0.0
        clock = SimpleNamespace(
            rate=1.0, now=lambda: NOON + timedelta(seconds=self.passed_s), monotonic_s=lambda: self.passed_s
        )
        context = SimpleNamespace(clock=clock, changes=Changes(), sessions=mock.MagicMock())
        row = SimpleNamespace(id=1, name="Anchor", state=MachineState.IDLE)
        self.known = cast(Any, SimpleNamespace(
            row=row, brief=None, bed_seen=False, on_bed="", head_mm=(0.0, 0.0, 120.0), head_rests=lambda at: True
        ))  # fmt: skip
        fleet = SimpleNamespace(
            all=lambda: [self.known], find=lambda name: self.known, version=0, publish=lambda known: None
        )
        self.camera = SimpleNamespace(row=SimpleNamespace(id=1, name="Anchor"), newest={})
        watching = SimpleNamespace(
            rule=lambda known: WatchRule(), why_not=lambda known: "", camera_of=lambda name: self.camera,
            view_of=lambda name: SimpleNamespace(head_mm=[0, 0, 120]), chosen=SimpleNamespace(threshold=0.8),
        )  # fmt: skip
        self.process = mock.Mock(look_at_bed=mock.AsyncMock(return_value=CLEAR), end=mock.AsyncMock())
        records = mock.Mock(of_bed=mock.AsyncMock(return_value=None), open_of_beds=mock.AsyncMock(return_value=[]))
        changed = mock.patch.object(bed_watching, "suspicions", records)
        changed.start()
        self.addCleanup(changed.stop)
        context.sessions.return_value.__aenter__ = mock.AsyncMock(return_value=mock.AsyncMock())
        cameras = mock.Mock(look=mock.AsyncMock())
        parts = cast(Any, (context, fleet, cameras, watching, mock.Mock(), self.process))
        self.beds = BedWatching(*parts)

    async def look_for(self, seconds: float) -> None:
        """Time passes, and a picture comes every ten seconds."""
        until_s = self.passed_s + seconds
        while self.passed_s < until_s:
            self.passed_s += 5
            if self.passed_s % 10 == 0:
                at = NOON + timedelta(seconds=self.passed_s)
                self.camera.newest["full"] = SimpleNamespace(head=SimpleNamespace(at=at), jpeg=b"")
            await self.beds.look()

    async def test_a_few_looks_at_a_clear_bed_are_enough(self) -> None:
        await self.look_for(20)
        self.assertFalse(self.known.bed_seen)
        await self.look_for(20)
        self.assertTrue(self.known.bed_seen)

    async def test_a_bed_that_goes_dark_after_a_look_keeps_no_work_away_for_ever(self) -> None:
        await self.look_for(10)
        self.assertEqual(self.process.look_at_bed.await_count, 1)
        self.process.look_at_bed.return_value = DARK
        await self.look_for(50)
        self.assertFalse(self.known.bed_seen)
        await self.look_for(40)
        self.assertTrue(self.known.bed_seen)

    async def test_a_bed_of_which_no_picture_can_be_read_keeps_no_work_away_for_ever(self) -> None:
        self.process.look_at_bed.side_effect = ValueError("the frame is no JPEG that can be read")
        with self.assertLogs("chronarch.watch") as said:
            await self.look_for(100)
        self.assertTrue(self.known.bed_seen)
        self.assertEqual(len(said.output), 1, "it is said once")
        self.assertIn("no JPEG", said.output[0])


if __name__ == "__main__":
    unittest.main()
