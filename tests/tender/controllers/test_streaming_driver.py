"""One machine's link over a real socket, with no service: reconnecting, carrying out, refusing."""

from __future__ import annotations

import asyncio
import tempfile
import unittest
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from chronarch.core.clock import ScaledClock
from chronarch.core.control.events import BuildEnded, ControlEvent, Noticed, StateChanged
from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.standins.machine import MachineStandin, Setup
from chronarch.tender.checkpoints import CheckpointStore, MachineCheckpoint
from chronarch.tender.controllers.commands import carry_out
from chronarch.tender.controllers.driver import DriverContext
from chronarch.tender.controllers.streaming_driver import StreamingDriver
from chronarch.tender.file_program import FileProgram
from chronarch.wire.control import commands as c
from chronarch.wire.control.upstream import Command, MachineConfig, OpenBuild
from chronarch.wire.gcode import WirePlan
from tests.support.gcode import commands, executed_sha256, squares

TEXT = squares(layers=3, rounds=10, feed=3000)
RATE = 400.0


class OwnStore:
    """Gives the test's file, whatever is asked for; fails the first `failures` times."""

    def __init__(self, folder: Path, failures: int = 0) -> None:
        self.path = folder / "file"
        self.path.write_text(TEXT)
        self.failures = failures

    async def program(self, sha256: str) -> FileProgram:
        if self.failures:
            self.failures -= 1
            raise OSError("the service is away")
        return FileProgram(self.path)


class Links(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.store = OwnStore(self.folder)
        self.machine = MachineStandin(Setup("Anchor", rate=RATE))
        await self.machine.start()
        self.addAsyncCleanup(self.machine.stop)
        self.told: list[ControlEvent] = []
        self.clock = ScaledClock(datetime.now(UTC), datetime(2026, 10, 19, 9, tzinfo=UTC), RATE)
        self.link = self.make_link(self.config())
        self.task = asyncio.create_task(self.link.run())
        self.addAsyncCleanup(self.end)
        await self.until(lambda: self.link.controller.ready and self.link.controller.machine.heat.nozzle_c is not None)

    async def end(self) -> None:
        self.task.cancel()
        await asyncio.gather(self.task, return_exceptions=True)

    async def test_what_no_sensor_can_measure_is_shown_as_nothing(self) -> None:
        self.link.controller.receive(b"T:nan /205.0 B:" + b"9" * 400 + b" /60.0\nX:" + b"9" * 400 + b" Y:0.0 Z:0.0\n",
                                  self.link.now())  # fmt: skip
        sample = self.link.sample()
        assert sample.reading is not None
        self.assertEqual((sample.reading.nozzle.measured_c, sample.reading.nozzle.asked_c), (None, 205.0))

    def make_link(self, config: MachineConfig, standing: MachineCheckpoint | None = None) -> StreamingDriver:
        context = DriverContext("tender", self.clock, self.store, CheckpointStore(self.folder / "kept"), self.tell)  # type: ignore[arg-type]
        return StreamingDriver(config, context, standing)

    def tell(self, name: str, at: datetime, body: ControlEvent) -> None:
        self.told.append(body)

    def config(self, build: int | None = None, state: MachineState = MachineState.IDLE, **order: bool) -> MachineConfig:
        plan = WirePlan.of(analyse(TEXT.encode(), MachineModel(name="m")).plan)
        given = None
        if build is not None:
            given = OpenBuild(build=build, sha256="x", size=1, file="f", job=1, copy_number=1, plan=plan, **order)
        link = f"tcp://127.0.0.1:{self.machine.port}"
        return MachineConfig(machine="Anchor", link=link, model=MachineModel(name="m"), state=state, order=given)

    async def until(self, done: Callable[[], object], within_s: float = 20.0) -> None:
        async with asyncio.timeout(within_s):
            while not done():  # noqa: ASYNC110
                await asyncio.sleep(0.01)

    async def ask(self, body: c.MachineCommand) -> str:
        return (await carry_out(self.link, Command(id="1", machine="Anchor", body=body))).problem

    def ended(self) -> list[BuildEnded]:
        return [h for h in self.told if isinstance(h, BuildEnded)]

    async def test_an_assigned_build_is_fetched_and_run_once_however_often_it_is_assigned(self) -> None:
        self.store.failures = 1
        for _ in range(3):
            self.link.assign(self.config(7))
        await self.until(self.ended)
        self.link.assign(self.config(7))
        await self.until(lambda: self.link.controller.machine.state is MachineState.UNCLEARED)
        self.assertEqual([h.outcome for h in self.ended()], [Outcome.COMPLETED])
        self.assertEqual(self.machine.record.sha256, executed_sha256(TEXT))

    async def test_the_link_comes_back_by_itself_and_the_build_goes_on(self) -> None:
        self.link.assign(self.config(7))
        for share in (0.2, 0.5):
            await self.until(lambda share=share: len(self.machine.record.commands) > share * len(commands(TEXT)))  # type: ignore[misc]
            self.machine.cut_link(0.3)
        await self.until(self.ended)
        self.assertEqual(self.machine.record.sha256, executed_sha256(TEXT))
        self.assertNotIn(MachineState.OFFLINE, [h.state for h in self.told if isinstance(h, StateChanged)])

    async def test_what_cannot_be_done_is_answered_with_why(self) -> None:
        self.assertIn("does not have this build", await self.ask(c.Pause(build=99)))
        self.assertIn("cannot happen while idle", await self.ask(c.Clear()))
        self.assertIn("Nothing to resume", await self.ask(c.Resume()))
        self.assertIn("Nothing can be stopped", await self.ask(c.Stop()))
        self.assertEqual(await self.ask(c.TakeOut()), "")
        self.assertIn("cannot happen while service", await self.ask(c.TakeOut()))
        self.assertEqual(await self.ask(c.PutBack()), "")

    async def test_a_pause_is_answered_once_the_machine_has_it(self) -> None:
        self.link.assign(self.config(7))
        await self.until(lambda: self.link.controller.machine.state is MachineState.BUILDING)
        self.assertEqual(await self.ask(c.Pause(build=7)), "")
        self.assertIs(self.link.controller.machine.state, MachineState.PAUSED)
        self.assertIn("paused already", await self.ask(c.Pause(build=7)))
        self.assertEqual(await self.ask(c.Resume(build=7)), "")
        self.assertEqual(await self.ask(c.Stop(build=7)), "")
        await self.until(self.ended)
        self.assertIs(self.ended()[0].outcome, Outcome.STOPPED)

    async def test_a_fresh_tender_clears_what_the_service_has_cleared(self) -> None:
        other = self.make_link(self.config(state=MachineState.UNCLEARED))
        other.assign(self.config(state=MachineState.UNCLEARED))
        self.assertIs(other.controller.machine.state, MachineState.IDLE)

    async def test_a_fresh_tender_knows_a_part_that_lies_on_the_bed(self) -> None:
        lying = self.make_link(self.config(8, MachineState.OFFLINE, begun=True, ended=True))
        self.assertEqual((lying.controller.machine.state, lying.controller.machine.build), (MachineState.UNCLEARED, 8))
        self.assertTrue(lying.controller.machine.offline)

    async def test_a_tender_that_dies_is_followed_by_one_that_goes_on_from_its_disk_without_the_service(self) -> None:
        self.link.assign(self.config(7))
        for share in (0.2, 0.5, 0.8):
            await self.until(lambda share=share: len(self.machine.record.commands) > share * len(commands(TEXT)))  # type: ignore[misc]
            await self.end()  # no goodbye: whatever it had in memory is gone
            ((config, standing),) = list(CheckpointStore(self.folder / "kept").all())
            self.link = self.make_link(config, standing)
            self.task = asyncio.create_task(self.link.run())
        await self.until(self.ended)
        self.assertEqual(self.machine.record.sha256, executed_sha256(TEXT))
        self.assertEqual([h.outcome for h in self.ended()], [Outcome.COMPLETED])

    async def test_two_links_to_one_device_are_refused_with_who_holds_it(self) -> None:
        config = self.config().model_copy(update={"machine": "Bezel"})
        second = self.make_link(config)
        task = asyncio.create_task(second.run())
        await self.until(lambda: any(isinstance(h, Noticed) for h in self.told))
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        (noticed,) = [h for h in self.told if isinstance(h, Noticed)]
        self.assertIn("is held by Anchor of tender", noticed.text)
        self.assertTrue(self.link.connected)

    async def test_everything_said_is_in_the_log_and_can_be_searched(self) -> None:
        self.link.assign(self.config(7))
        await self.until(self.ended)
        log = self.link.line_log
        kinds = {line.kind for line in log.tail(0, 5000, "")}
        self.assertLessEqual({"file", "own", "ok", "heat", "said"}, kinds)
        found = log.tail(0, 5000, "m109")
        self.assertEqual([line.text.split()[1:3] for line in found if line.kind == "file"], [["M109", "S60*88"]])
        self.assertEqual(log.tail(found[-1].number, 2, "")[-1].number, log.tail(0, 1, "")[0].number)
        await self.until(lambda: log.path(7).exists() and b" > N5 " in log.path(7).read_bytes())

    async def test_a_sample_says_how_the_machine_is(self) -> None:
        sample = self.link.sample()
        self.assertEqual((sample.machine, sample.state, sample.connected), ("Anchor", MachineState.IDLE, True))
        assert sample.reading is not None
        self.assertAlmostEqual(sample.reading.nozzle.measured_c or 0, 23, delta=2)
        self.link.assign(self.config(7))
        await self.until(lambda: (b := self.link.sample().build) and b.acknowledged > 20)
        build = self.link.sample().build
        assert build is not None
        self.assertTrue(0 < build.progress < 1 and build.expected_end and build.layers == 3)
