"""A machine that lets go of parts by itself, and its camera: what it does while that sees nothing."""

from __future__ import annotations

import asyncio
import unittest
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace
from typing import Any, cast
from unittest import mock

from chronarch.core.machines.model import MachineModel, OwnSequence
from chronarch.core.machines.states import MachineState
from chronarch.service.changes import Changes
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.problems import ApiProblem
from chronarch.service.watching import part_release as releasing
from chronarch.service.workers import Worker

NOON = datetime(2026, 10, 19, 12, tzinfo=UTC)


class ShowingItsBed(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        sweep = OwnSequence(name="sweep bed", lines="G28", clear_bed=False)
        model = MachineModel(name="Kiln 250", releases=2, release_sequence=sweep.name, sequences=(sweep,))
        row = SimpleNamespace(name="Pinion", state=MachineState.IDLE)
        self.known = FleetMachine(cast(Any, row), model, "tender", camera="Pinion")
        self.sweeps = 0
        self.refuses = False
        fleet = SimpleNamespace(all=lambda: [self.known], reachable=lambda known: True, command=self.command)
        context = SimpleNamespace(changes=Changes())
        cameras = mock.Mock(look=mock.AsyncMock())
        self.releasing = releasing.PartRelease(cast(ServiceContext, context), cast(Fleet, fleet), cameras)

    async def command(self, known: FleetMachine, body: object, by: str = "", within_s: float = 0) -> None:
        self.sweeps += 1
        if self.refuses:
            raise ApiProblem(409, "Pinion: its door is open")

    async def watched(self, until: str, frames: bool) -> None:
        """Have it watched, with frames coming or not, until something of the machine is so."""
        is_so = {
            "blind": lambda: self.known.clear_frame == b"",
            "seen": lambda: bool(self.known.clear_frame),
            "twice": lambda: self.sweeps >= 2,
        }[until]
        watching = asyncio.create_task(Worker("release", self.releasing.look, 0.02, now=lambda: NOON).run_forever())
        try:
            async with asyncio.timeout(20):
                while not is_so():
                    if frames:
                        self.known.frame = b"a frame"
                        self.known.frame_at = (self.known.frame_at or NOON) + timedelta(seconds=2)
                    await asyncio.sleep(0.03)
        finally:
            watching.cancel()

    @mock.patch.multiple(releasing, LOOK_EVERY_S=0.02, SEEN_WITHIN_S=0.3)
    async def test_a_camera_that_was_away_is_asked_again_once_it_is_back(self) -> None:
        self.assertTrue(self.known.must_pose)
        await self.watched("blind", frames=False)
        self.assertFalse(self.known.must_pose, "it takes work all the same")
        self.assertEqual(self.sweeps, 1)
        await self.watched("seen", frames=True)
        self.assertEqual((self.sweeps, self.known.clear_frame), (2, b"a frame"))

    @mock.patch.multiple(releasing, LOOK_EVERY_S=0.02, SEEN_WITHIN_S=0.3)
    async def test_a_machine_that_refuses_its_sequence_is_not_asked_for_every_frame(self) -> None:
        self.refuses = True
        await self.watched("blind", frames=True)
        with self.assertRaises(TimeoutError):
            async with asyncio.timeout(0.5):
                await self.watched("twice", frames=True)
        self.assertEqual(self.sweeps, 1)


if __name__ == "__main__":
    unittest.main()
