"""A machine that runs files itself, over a real broker with TLS and a password: a build from its file to its end."""

from __future__ import annotations

import asyncio
import hashlib
import tempfile
import unittest
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import trustme

from chronarch.core.clock import ScaledClock
from chronarch.core.control import actions as h
from chronarch.core.control.events import BuildEnded, ControlEvent
from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.demo.broker import USER, PrivateBroker
from chronarch.standins.machine import Setup
from chronarch.standins.stored import StoredStandin
from chronarch.tender.checkpoints import CheckpointStore
from chronarch.tender.controllers.commands import carry_out
from chronarch.tender.controllers.driver import DriverContext
from chronarch.tender.controllers.stored_file_driver import StoredFileDriver
from chronarch.wire.control.commands import Act
from chronarch.wire.control.upstream import Command, MachineConfig, OpenBuild
from chronarch.wire.gcode import WirePlan
from tests.support.gcode import executed_sha256, squares
from tests.tender.controllers.test_streaming_driver import OwnStore

TEXT = squares(layers=2, rounds=6, feed=6000)
SHA = hashlib.sha256(TEXT.encode()).hexdigest()
RATE = 400.0


class OverTls(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        authority = trustme.CA()
        issued = authority.issue_cert("127.0.0.1")
        self.ca = self.folder / "ca.pem"
        authority.cert_pem.write_to_path(str(self.ca))
        issued.cert_chain_pems[0].write_to_path(str(self.folder / "cert.pem"))
        issued.private_key_pem.write_to_path(str(self.folder / "key.pem"))
        self.broker = PrivateBroker(
            self.folder / "broker", certificate=str(self.folder / "cert.pem"), key=str(self.folder / "key.pem")
        )
        self.broker.start()
        self.addCleanup(self.broker.stop)
        at = f"127.0.0.1:{self.broker.port}:{USER}:{self.broker.password}"
        self.machine = StoredStandin(Setup("Pallet", rate=RATE, broker=at, ca=str(self.ca)))
        await self.machine.start()
        self.addAsyncCleanup(self.machine.stop)
        self.told: list[ControlEvent] = []
        self.store = OwnStore(self.folder)
        self.store.path.write_text(TEXT)

    def controller(self, link: str) -> StoredFileDriver:
        clock = ScaledClock(datetime.now(UTC), datetime(2026, 10, 19, 9, tzinfo=UTC), RATE)
        context = DriverContext("tender", clock, self.store, CheckpointStore(self.folder / "kept"), self.tell)  # type: ignore[arg-type]
        machine = StoredFileDriver(
            MachineConfig(machine="Pallet", link=link, model=MachineModel(name="m"), state=MachineState.IDLE), context
        )
        task = asyncio.create_task(machine.run())

        async def end() -> None:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

        self.addAsyncCleanup(end)
        return machine

    def tell(self, name: str, at: datetime, body: ControlEvent) -> None:
        self.told.append(body)

    async def until(self, done: Callable[[], object], within_s: float = 30.0) -> None:
        async with asyncio.timeout(within_s):
            while not done():  # noqa: ASYNC110
                await asyncio.sleep(0.01)

    async def test_a_build_is_made_and_an_action_done_over_tls_with_a_password(self) -> None:
        link = self.controller(f"{self.broker.address('Pallet')}?ca={self.ca}")
        await self.until(lambda: link.controller.ready)
        action = Command(id="1", machine="Pallet", body=Act(action=h.SendLine("M115")))
        self.assertTrue((await carry_out(link, action)).said[0].startswith("FIRMWARE_NAME:stand-in"))
        plan = WirePlan.of(analyse(TEXT.encode(), MachineModel(name="m")).plan)
        order = OpenBuild(build=7, sha256=SHA, size=len(TEXT), file="f", job=1, copy_number=1, plan=plan)
        link.assign(link.config.model_copy(update={"order": order}))
        await self.until(lambda: any(isinstance(what, BuildEnded) for what in self.told))
        (ended,) = [what for what in self.told if isinstance(what, BuildEnded)]
        self.assertEqual(ended.outcome, Outcome.COMPLETED)
        self.assertEqual(self.machine.record.sha256, executed_sha256(TEXT))

    async def test_neither_a_wrong_password_nor_an_unknown_authority_gets_in(self) -> None:
        address = self.broker.address("Pallet")
        for link in (f"{address.replace(self.broker.password, 'guessed')}?ca={self.ca}", address):
            minded = self.controller(link)
            await self.until(lambda: minded.controller.connection.is_lost)  # noqa: B023
            await asyncio.sleep(0.5)
            self.assertFalse(minded.connected)
            self.assertFalse(minded.controller.ready)


if __name__ == "__main__":
    unittest.main()
