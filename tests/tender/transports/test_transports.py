"""Every way to a machine over a real wire: a serial port by its stable name, RFC 2217, TCP; its speed; who holds it."""

from __future__ import annotations

import asyncio
import dataclasses
import json
import os
import tempfile
import unittest
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from chronarch.core.clock import ScaledClock
from chronarch.core.control.events import BuildEnded, ControlEvent
from chronarch.core.control.firmware_info import remarks
from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.address import parse_address
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.standins.machine import MachineStandin, Setup
from chronarch.tender.checkpoints import CheckpointStore
from chronarch.tender.controllers.driver import DriverContext
from chronarch.tender.controllers.streaming_driver import StreamingDriver
from chronarch.tender.discovery.probe import probe_line
from chronarch.tender.transports.device_lock import DeviceInUse, hold
from chronarch.tender.transports.serial_port import find_speed
from chronarch.wire.control.upstream import MachineConfig, OpenBuild
from chronarch.wire.gcode import WirePlan
from tests.support.gcode import executed_sha256, squares
from tests.tender.controllers.test_streaming_driver import OwnStore

TEXT = squares(layers=2, rounds=6, feed=6000)
RATE = 400.0


class Wires(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.told: list[ControlEvent] = []

    async def standin(self, **setup: object) -> MachineStandin:
        machine = MachineStandin(Setup("Anchor", rate=RATE, **setup))  # type: ignore[arg-type]
        await machine.start()
        self.addAsyncCleanup(machine.stop)
        return machine

    async def minded(self, link: str) -> StreamingDriver:
        """A tender's link to such an address, ready for work."""
        store = OwnStore(self.folder)
        store.path.write_text(TEXT)
        clock = ScaledClock(datetime.now(UTC), datetime(2026, 10, 19, 9, tzinfo=UTC), RATE)
        context = DriverContext(
            "tender", clock, store, CheckpointStore(self.folder / "kept"), lambda n, at, b: self.told.append(b)
        )  # type: ignore[arg-type]
        config = MachineConfig(machine="Anchor", link=link, model=MachineModel(name="m"), state=MachineState.IDLE)
        machine = StreamingDriver(config, context)
        task = asyncio.create_task(machine.run())

        async def end() -> None:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

        self.addAsyncCleanup(end)
        await self.until(lambda: machine.controller.ready and machine.controller.machine.heat.nozzle_c is not None)
        return machine

    def tell(self, name: str, at: datetime, body: ControlEvent) -> None:
        self.told.append(body)

    async def until(self, done: Callable[[], object], within_s: float = 30.0) -> None:
        async with asyncio.timeout(within_s):
            while not done():  # noqa: ASYNC110
                await asyncio.sleep(0.01)

    async def build(self, link: StreamingDriver) -> BuildEnded:
        plan = WirePlan.of(analyse(TEXT.encode(), MachineModel(name="m")).plan)
        order = OpenBuild(build=7, sha256="x", size=1, file="f", job=1, copy_number=1, plan=plan)
        link.assign(link.config.model_copy(update={"order": order}))
        await self.until(lambda: any(isinstance(h, BuildEnded) for h in self.told))
        return next(h for h in self.told if isinstance(h, BuildEnded))

    async def test_a_serial_port_is_found_by_its_stable_name_and_at_its_own_speed(self) -> None:
        port = self.folder / "by-id" / "usb-lantern-07"
        machine = await self.standin(port_name=str(port), speed=230400)
        link = await self.minded(f"serial://{port}")
        self.assertEqual(link.speed, 230400)
        ended = await self.build(link)
        self.assertEqual(ended.outcome, Outcome.COMPLETED)
        self.assertEqual(machine.record.sha256, executed_sha256(TEXT))

    async def test_a_serial_port_behind_rfc_2217_is_set_to_its_speed_and_comes_back_after_a_cut(self) -> None:
        machine = await self.standin(rfc2217=True, speed=250000)
        link = await self.minded(f"rfc2217://127.0.0.1:{machine.port}")
        self.assertEqual(link.speed, 250000)
        building = asyncio.create_task(self.build(link))
        await self.until(lambda: len(machine.record.commands) > 20)
        machine.cut_link(0.3)
        ended = await building
        self.assertEqual(ended.outcome, Outcome.COMPLETED)
        self.assertEqual(machine.record.sha256, executed_sha256(TEXT))

    async def test_two_names_of_one_port_are_one_device(self) -> None:
        port = self.folder / "ttyUSB7"
        await self.standin(port_name=str(port))
        other = self.folder / "by-id-name"
        other.symlink_to(port)
        with (
            hold(parse_address(f"serial://{port}"), "Anchor of tender"),
            self.assertRaisesRegex(DeviceInUse, "held by Anchor of tender"),
            hold(parse_address(f"serial://{other}"), "Bezel of tender"),
        ):
            pass

    async def test_a_probe_tells_speed_firmware_and_what_was_said(self) -> None:
        port = self.folder / "port"
        await self.standin(port_name=str(port), speed=57600, reports_heat=False, numbered_oks=True)
        tried: list[str] = []
        finding = await probe_line(parse_address(f"serial://{port}"), tried.append)
        self.assertEqual((finding.speed, finding.contact.firmware), (57600, "stand-in 4.2"))
        self.assertEqual(finding.contact.words["MACHINE_TYPE"], "Anchor")
        self.assertEqual(finding.wants_line, 1)
        self.assertTrue(finding.heat.startswith("T:23"), finding.heat)
        self.assertIn("at 115200: not text", tried[0])
        self.assertEqual(len(remarks(finding)), 1)
        self.assertIn("does not report temperatures", remarks(finding)[0])
        json.dumps(dataclasses.asdict(finding))

    async def test_a_port_with_nothing_behind_it_answers_at_no_speed(self) -> None:
        master, slave = os.openpty()
        self.addCleanup(os.close, master)
        address = parse_address(f"serial://{os.ttyname(slave)}?speed=115200")
        self.assertIsNone(await asyncio.to_thread(find_speed, address))
        os.close(slave)
        with self.assertRaisesRegex(OSError, "cannot be opened"):
            find_speed(parse_address("serial:///dev/nothing-here"))


if __name__ == "__main__":
    unittest.main()
