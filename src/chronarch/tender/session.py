"""The tender's conversation with the service, and the drivers it runs meanwhile.

The drivers do not depend on the conversation: while the service is away, builds go on and events wait in the journal.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import socket as socketlib
from collections.abc import Coroutine
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from pydantic import ValidationError
from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import ConnectionClosed, WebSocketException

from chronarch.client import AsyncClient
from chronarch.core.backoff import Backoff
from chronarch.core.clock import Clock
from chronarch.core.control.events import ControlEvent, MachineStands, StateChanged
from chronarch.tender.checkpoints import CheckpointStore, MachineCheckpoint
from chronarch.tender.controllers.commands import carry_out
from chronarch.tender.controllers.driver import DriverContext, MachineDriver
from chronarch.tender.controllers.drivers import make_driver
from chronarch.tender.discovery.looking import Looking
from chronarch.tender.file_store import FileStore
from chronarch.tender.helper_process import HelperProcess
from chronarch.tender.journal import Journal
from chronarch.tender.peripherals.camera_moments import CameraMoments
from chronarch.tender.peripherals.plugs.plug_keeper import PlugKeeper
from chronarch.tender.tasks import end
from chronarch.wire.control.commands import ReadLog
from chronarch.wire.control.upstream import (
    Assign,
    Command,
    Committed,
    Hello,
    MachineConfig,
    Reply,
    Seek,
    Sought,
    Welcome,
    to_tender,
)
from chronarch.wire.machines.power import PlugSetup

SAMPLE_EVERY_S, MOMENTS_EVERY_S = 1.0, 0.1
RETRY_S, LASTING_S = (0.3, 0.6, 1.0, 2.0, 3.0), 3.0
REFUSED_RETRY_S, REFUSED_LASTING_S = (1.0, 3.0, 10.0, 30.0), 60.0
"""The waits after the service did not understand this tender, or does not let it in: that seldom passes by itself."""
REFUSED = (4400, 4401)
TOLD_AGAIN_S = 600.0
log = logging.getLogger("chronarch.tender")


@dataclass(frozen=True)
class TenderSettings:
    """`service`: its address, http://host:port; `key`: a secret of scope tender; `folder`: the tender's own; `clock`:
    shop time as `parse_clock` reads it."""

    name: str
    service: str
    key: str
    folder: Path
    clock: str = ""


class RunningTender:
    """Runs until cancelled."""

    def __init__(self, settings: TenderSettings, clock: Clock) -> None:
        self._settings = settings
        self._clock = clock
        self._client = AsyncClient(settings.service, settings.key)
        self._store = FileStore(settings.folder / "files", self._client)
        self._journal = Journal(settings.folder / "journal")
        self._keeping = CheckpointStore(settings.folder / "machines")
        told = {"CHRONARCH_ADDRESS": settings.service, "CHRONARCH_TENDER_KEY": settings.key}
        self._background = HelperProcess(["background"], told)
        watch = ["cameras", "--name", settings.name, "--clock", settings.clock, "--folder", str(settings.folder)]
        self._cameras = HelperProcess(watch, told, always=True)
        self._moments = CameraMoments(self._cameras.tell, clock.rate)
        self._around = DriverContext(settings.name, clock, self._store, self._keeping, self._tell, self._log_ready)
        self._looking = Looking()
        self._links: dict[str, MachineDriver] = {}
        self._plugs: dict[str, tuple[PlugKeeper, asyncio.Task[None]]] = {}
        self._minding: dict[str, asyncio.Task[None]] = {}
        self._tasks: set[asyncio.Task[None]] = set()
        self._to_send: asyncio.Queue[str] | None = None
        self._why = ("", 0.0)
        self._odd: set[str] = set()

    async def run(self) -> None:
        """Mind the machines that were kept, and talk to the service, until this process ends."""
        for config, standing in self._keeping.all():
            self._mind(config, standing)
            self._plug_in(config.machine, config.plug)
        self._keep(self._look_after_helpers())
        self._keep(self._follow_builds())
        url = self._settings.service.replace("http", "ws", 1) + "/api/tender"
        headers = {"Authorization": f"Bearer {self._settings.key}"}
        cut, refused = Backoff(RETRY_S, LASTING_S), Backoff(REFUSED_RETRY_S, REFUSED_LASTING_S)
        try:
            while True:
                began, backoff = self._clock.monotonic_s(), cut
                try:
                    async with connect(
                        url, additional_headers=headers, proxy=None, max_size=256 * 1024 * 1024
                    ) as socket:
                        await self._converse(socket)
                except (OSError, WebSocketException, TimeoutError, ValidationError) as error:
                    if isinstance(error, ConnectionClosed) and error.rcvd and error.rcvd.code in REFUSED:
                        backoff = refused
                    self._tell_why(str(error).splitlines()[0])
                self._to_send = None
                await asyncio.sleep(backoff.next_s(self._clock.monotonic_s() - began))
        finally:
            for task in self._tasks:
                task.cancel()
            self._background.close()
            self._cameras.close()
            self._journal.close()
            await self._client.close()

    def _tell_odd(self, machine: str, why: str) -> None:
        """Log what is wrong with a machine's messages, once for each machine."""
        if machine not in self._odd:
            self._odd.add(machine)
            log.warning("%s: %s", machine, why)

    def _tell_why(self, why: str) -> None:
        """Log why there is no conversation; the same reason is logged again only after a long time."""
        now = self._clock.monotonic_s()
        if why != self._why[0] or now - self._why[1] >= TOLD_AGAIN_S:
            log.warning("no conversation with the service: %s", why)
            self._why = (why, now)

    async def _converse(self, socket: ClientConnection) -> None:
        place = f"{socketlib.gethostname()}, process {os.getpid()}"
        hello = Hello(tender=self._settings.name, epoch=self._journal.epoch, place=place)
        await socket.send(hello.model_dump_json())
        welcome = to_tender.validate_json(await socket.recv())
        if not isinstance(welcome, Welcome):
            return
        log.info("the service has %d machines for this tender", len(welcome.configs))
        self._to_send = asyncio.Queue()
        self._journal.committed(welcome.committed)
        for event in self._journal.pending():
            self._to_send.put_nowait(event.model_dump_json())
        for config in welcome.configs:
            number = welcome.roll_call.get(config.machine)
            if number is None:
                self._take_charge(config)
            else:
                link = self._links.get(config.machine)
                stands = link.stands(number) if link is not None else MachineStands(number)
                self._tell(config.machine, self._clock.now(), stands)
        sending = [asyncio.create_task(self._send_forever(socket)), asyncio.create_task(self._sample_forever())]
        try:
            async for text in socket:
                self._hear(to_tender.validate_json(text))
        finally:
            await end(sending)

    def _take_charge(self, config: MachineConfig) -> None:
        """Mind a machine as the service says. A machine that cannot be minded does not keep the others from it."""
        try:
            self._assign(config)
        except Exception as error:
            self._tell_odd(config.machine, f"it cannot be minded: {error}")

    def _assign(self, config: MachineConfig) -> None:
        link = self._links.get(config.machine)
        if link is not None and link.config.link != config.link and link.at_rest:
            self._let_go(config.machine)
            link = None
        if link is None:
            link = self._mind(self._up_to_date(config), None)
            self._keeping.config(config)
        else:
            link.assign(config)
        self._plug_in(config.machine, config.plug)

    def _let_go(self, machine: str) -> None:
        """Mind a machine at its link no more."""
        self._plug_in(machine, None)
        self._minding.pop(machine).cancel()
        del self._links[machine]

    def _plug_in(self, machine: str, setup: PlugSetup | None) -> None:
        """Mind the plug of a machine as it is set up now."""
        minded = self._plugs.get(machine)
        if (minded[0].setup if minded else None) == setup:
            return
        if minded is not None:
            minded[1].cancel()
            del self._plugs[machine]
            self._links[machine].plug = None
        if setup is not None:
            url = urlsplit(self._settings.service)
            keeper = PlugKeeper(self._links[machine], setup, self._clock, (url.hostname or "", url.port or 80))
            self._links[machine].plug = keeper
            self._plugs[machine] = keeper, self._keep(keeper.run())

    def _mind(self, config: MachineConfig, standing: MachineCheckpoint | None) -> MachineDriver:
        """Begin to mind a machine."""
        link = self._links[config.machine] = make_driver(config, self._around, standing)
        self._minding[config.machine] = self._keep(link.run())
        for build in link.line_log.left_over(link.controller.machine.build):
            self._log_ready(config.machine, build)
        return link

    def _log_ready(self, machine: str, build: int) -> None:
        path = str(self._links[machine].line_log.path(build))
        self._background.tell({"name": f"log {build}", "build": build, "path": path})

    async def _look_after_helpers(self) -> None:
        while True:
            self._background.look_after()
            self._cameras.look_after()
            await asyncio.sleep(1.0)

    async def _follow_builds(self) -> None:
        """Tell the cameras where builds are."""
        while True:
            for machine, link in self._links.items():
                self._moments.look(machine, link.controller)
            await asyncio.sleep(MOMENTS_EVERY_S)

    def _up_to_date(self, config: MachineConfig) -> MachineConfig:
        """The config with what the journal knows and the service has not heard yet."""
        order = config.order
        if order is not None:
            told = {e.body.kind for e in self._journal.pending() if getattr(e.body, "build", None) == order.build}
            order = order.model_copy(
                update={"begun": order.begun or "began" in told, "ended": order.ended or "ended" in told}
            )
        states = [
            e.body for e in self._journal.pending() if e.machine == config.machine and isinstance(e.body, StateChanged)
        ]
        state = {"state": states[-1].state, "reason": states[-1].reason} if states else {}
        return config.model_copy(update={"order": order, **state})

    def _keep(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._ended)
        return task

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        if not task.cancelled() and task.exception():
            log.error("a task of the tender failed", exc_info=task.exception())

    def _tell(self, machine: str, at: datetime, body: ControlEvent) -> None:
        """Journal an event, and send it if the service is connected."""
        if machine in self._links:
            self._moments.happened(machine, body, self._links[machine].controller)
        event = self._journal.add(machine, at, body)
        if self._to_send is not None:
            self._to_send.put_nowait(event.model_dump_json())

    def _hear(self, message: object) -> None:
        match message:
            case Committed(sequence=sequence):
                self._journal.committed(sequence)
            case Assign(config=config):
                self._take_charge(config)
            case Command():
                self._keep(self._carry_out(message))
            case Seek():
                self._keep(self._seek(message))
            case _:
                pass

    async def _carry_out(self, command: Command) -> None:
        link = self._links.get(command.machine)
        if link is not None:
            reply = await carry_out(link, command)
        else:
            reply = Reply(id=command.id, problem=f"this tender does not mind {command.machine}")
        if self._to_send is not None:
            if link and not isinstance(command.body, ReadLog):
                self._to_send.put_nowait(link.sample().model_dump_json())
            self._to_send.put_nowait(reply.model_dump_json())

    async def _seek(self, seek: Seek) -> None:
        sought = Sought(id=seek.id, looked=await self._looking.look(seek.look))
        if self._to_send is not None:
            self._to_send.put_nowait(sought.model_dump_json())

    async def _send_forever(self, socket: ClientConnection) -> None:
        queue = self._to_send
        assert queue is not None
        while True:
            await socket.send(await queue.get())

    async def _sample_forever(self) -> None:
        while True:
            if self._to_send is not None and self._to_send.qsize() < 5000:
                for machine, link in self._links.items():
                    try:
                        self._to_send.put_nowait(link.sample().model_dump_json())
                    except ValidationError as error:  # a machine that sends nonsense does not silence the others
                        self._tell_odd(machine, f"it cannot be shown as it is: {error.errors()[0]['msg']}")
            await asyncio.sleep(SAMPLE_EVERY_S)


async def run_tender(settings: TenderSettings, clock: Clock) -> None:
    """Run one tender until cancelled."""
    with contextlib.suppress(asyncio.CancelledError):
        await RunningTender(settings, clock).run()
