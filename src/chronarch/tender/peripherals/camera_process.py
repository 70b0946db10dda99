"""The tender's camera process: watches all its cameras and hands their frames to the service.

It is a process of its own, at low priority, so that lines to machines come before every picture; and it keeps to a
budget of the processor by taking fewer frames.
"""

from __future__ import annotations

import asyncio
import json
import logging
import time
from collections.abc import Coroutine
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import IO, Any
from urllib.parse import urlsplit

from pydantic import BaseModel, ValidationError
from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import ConnectionClosed, WebSocketException

from chronarch.core.backoff import Backoff
from chronarch.core.clock import Clock
from chronarch.core.watching.camera_address import parse_camera_address
from chronarch.core.watching.frame_keeping import FrameReason, KeptPlace
from chronarch.core.watching.frame_rates import FrameRates
from chronarch.tender import priority
from chronarch.tender.peripherals.camera_sources.source import CameraFailed, CameraSetup
from chronarch.tender.peripherals.camera_watcher import CameraWatcher, Outlet, try_camera
from chronarch.tender.peripherals.frame_spool import FrameSpool
from chronarch.tender.peripherals.local_cameras import local_cameras
from chronarch.tender.tasks import end, together
from chronarch.wire.watching.camera_messages import (
    CameraAnswer,
    CameraHello,
    CameraStands,
    FrameHead,
    FramesKept,
    KeptAs,
    ListLocal,
    Look,
    SpoolTrouble,
    TryCamera,
    WatchCameras,
    WatchedCamera,
    WorkMeasured,
    pack_frame,
    to_cameras,
)
from chronarch.wire.watching.cameras import CameraTest

MEASURED_EVERY_S = 1.0
RETRY_S, LASTING_S = (0.3, 0.6, 1.0, 2.0, 3.0), 3.0
ENCODERS, MOST_TESTS, UNDER_WAY = 2, 4, 8
"""Threads that make pictures; tests at once; kept frames that are sent before the service has confirmed one."""
log = logging.getLogger("chronarch.cameras")


@dataclass(frozen=True)
class CameraService:
    """Where the frames go: the service's address, http://host:port, a key of scope tender, and this tender's name."""

    address: str
    key: str
    tender: str


class CameraProcess:
    """All cameras of one tender. Runs until cancelled."""

    def __init__(self, service: CameraService, clock: Clock, spool: Path) -> None:
        self._service, self._clock = service, clock
        self._loop = asyncio.get_running_loop()
        self._rates = FrameRates(budget=0.5)
        self._encoder = ThreadPoolExecutor(ENCODERS, "encoder")
        self._outlet = Outlet(self._hand_on, self._tell, self._keep)
        self._watchers: dict[str, tuple[CameraWatcher, asyncio.Task[None]]] = {}
        self._places: dict[str, dict[str, Any]] = {}
        """By machine: where its build is, as the tender said last."""
        self._spool = FrameSpool(spool, self._spool_told)
        self._sending: set[str] = set()
        self._spooled = asyncio.Event()
        self._socket: ClientConnection | None = None
        self._tests = asyncio.Semaphore(MOST_TESTS)
        self._answering: set[asyncio.Task[None]] = set()

    async def run(self) -> None:
        """Raises what nobody thought of: the process ends then, and the tender starts it anew."""
        try:
            await together(self._talk_forever(), self._measure_forever(), self._send_kept_forever())
        finally:
            await end([*self._answering, *(task for _, task in self._watchers.values())])
            self._encoder.shutdown(wait=False, cancel_futures=True)

    async def _talk_forever(self) -> None:
        backoff = Backoff(RETRY_S, LASTING_S)
        url = self._service.address.replace("http", "ws", 1) + "/api/tender/cameras"
        headers = {"Authorization": f"Bearer {self._service.key}"}
        while True:
            began_s = self._clock.monotonic_s()
            try:
                async with connect(
                    url, additional_headers=headers, proxy=None, compression=None, max_size=8_000_000
                ) as socket:
                    await self._converse(socket)
            except (OSError, WebSocketException, TimeoutError, ValidationError) as error:
                log.info("no conversation with the service: %s", str(error).splitlines()[0])
            self._socket = None
            for watcher, _ in self._watchers.values():
                watcher.look(0.0, 0.0)
            await asyncio.sleep(backoff.next_s(self._clock.monotonic_s() - began_s))

    async def _converse(self, socket: ClientConnection) -> None:
        await socket.send(CameraHello(tender=self._service.tender).model_dump_json())
        self._socket = socket
        self._sending.clear()
        self._spooled.set()
        async for text in socket:
            match to_cameras.validate_json(text):
                case WatchCameras() as watch:
                    self._rates.budget, self._outlet.keep_every_s = watch.budget, watch.keep_every_s
                    await self._watch(watch.cameras)
                case Look() as look:
                    if look.camera in self._watchers:
                        self._watchers[look.camera][0].look(look.full, look.small)
                case TryCamera() as wish:
                    self._answer(self._try(wish))
                case ListLocal() as wish:
                    self._answer(self._list(wish))
                case FramesKept(ids=ids):
                    self._spool.forget(ids)
                    self._sending.difference_update(ids)
                    self._spooled.set()

    # The cameras ---------------------------------------------------------------------------------------------

    async def _watch(self, cameras: list[WatchedCamera]) -> None:
        """Watch these cameras and no others; those that are set up as before go on undisturbed."""
        wanted = {camera.name: camera for camera in cameras}
        over = [name for name, (watcher, _) in self._watchers.items() if wanted.get(name) != watcher.camera]
        await end([self._watchers.pop(name)[1] for name in over])
        for name, camera in wanted.items():
            if name in self._watchers:
                await self._watchers[name][0].say_again()
                continue
            watcher = CameraWatcher(camera, self._setup(camera), self._rates, self._encoder, self._outlet)
            self._watchers[name] = watcher, asyncio.create_task(watcher.run())
            if camera.machine in self._places:
                self._follow(watcher, {**self._places[camera.machine], "why": None})

    def follow(self, said: dict[str, Any]) -> None:
        """The tender says where a build is, and what has happened."""
        self._places[said["machine"]] = said
        for watcher, _ in self._watchers.values():
            if watcher.camera.machine == said["machine"]:
                self._follow(watcher, said)

    @staticmethod
    def _follow(watcher: CameraWatcher, said: dict[str, Any]) -> None:
        place = KeptPlace(said["build"], said["layer"], said["command"])
        at = datetime.fromisoformat(said["at"]) if said["at"] else None
        watcher.follow(place, working=said["working"], why=FrameReason(said["why"]) if said["why"] else None, at=at)

    def _setup(self, camera: WatchedCamera | CameraTest) -> CameraSetup:
        address = parse_camera_address(camera.address)
        login, password = camera.login or address.login, camera.password or address.password
        url = urlsplit(self._service.address)
        keep_away = url.hostname or "", url.port or 80
        return CameraSetup(replace(address, login=login, password=password), camera.settings, self._clock, keep_away)

    async def _hand_on(self, head: FrameHead, jpeg: bytes) -> None:
        if self._socket is not None:
            with suppress(ConnectionClosed):  # live pictures that nobody can get are not missed
                await self._socket.send(pack_frame(head, jpeg))

    async def _say(self, message: BaseModel) -> None:
        if self._socket is not None:
            with suppress(ConnectionClosed):  # what matters is said again when it is back
                await self._socket.send(message.model_dump_json())

    async def _tell(self, camera: str, trouble: str, since: datetime) -> None:
        await self._say(CameraStands(camera=camera, trouble=trouble[:500], since=since))

    # Frames that are kept --------------------------------------------------------------------------------------

    async def _keep(self, head: FrameHead, kept: KeptAs, jpeg: bytes) -> None:
        await asyncio.to_thread(self._spool.keep, head, kept, jpeg)
        self._spooled.set()

    def _spool_told(self, trouble: str) -> None:
        self._loop.call_soon_threadsafe(self._answer, self._say(SpoolTrouble(trouble=trouble[:500])))

    async def _send_kept_forever(self) -> None:
        """Send what the service has not got yet, a few at a time."""
        while True:
            await self._spooled.wait()
            self._spooled.clear()
            socket = self._socket
            for name in self._spool.waiting():
                if socket is None or len(self._sending) >= UNDER_WAY:
                    break
                if name in self._sending:
                    continue
                message = await asyncio.to_thread(self._spool.read, name)
                if socket is not self._socket:
                    break  # the service went away meanwhile; what waits is sent when it is back
                if message is not None:
                    self._sending.add(name)
                    with suppress(ConnectionClosed):  # it is sent again when the service is back
                        await socket.send(message)

    async def _measure_forever(self) -> None:
        """Hold the work to its budget."""
        spent_s, at_s = time.process_time(), time.monotonic()
        while True:
            await asyncio.sleep(MEASURED_EVERY_S)
            spent, now = time.process_time(), time.monotonic()
            self._rates.measured((spent - spent_s) / max(now - at_s, 1e-3))
            spent_s, at_s = spent, now
            rates = self._rates
            await self._say(WorkMeasured(budget=rates.budget, used=rates.used, factor=rates.factor))

    # Questions -----------------------------------------------------------------------------------------------

    def _answer(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.create_task(work)
        self._answering.add(task)
        task.add_done_callback(self._answering.discard)

    async def _try(self, wish: TryCamera) -> None:
        async with self._tests:
            try:
                tried = await try_camera(self._setup(wish.what), self._encoder)
            except CameraFailed as error:
                await self._say(CameraAnswer(id=wish.id, problem=str(error)[:500]))
                return
            except Exception as error:
                log.exception("a camera could not be tried")
                await self._say(CameraAnswer(id=wish.id, problem=f"it could not be read ({type(error).__name__})"))
                return
        head = FrameHead(
            answer=wish.id, size="full", taken_at=tried.shot.taken_at, at=tried.shot.at, width=tried.picture.width,
            height=tried.picture.height,
        )  # fmt: skip
        await self._hand_on(head, tried.picture.jpeg)
        await self._say(CameraAnswer(id=wish.id, took_s=tried.took_s, warning=tried.warning[:500]))

    async def _list(self, wish: ListLocal) -> None:
        await self._say(CameraAnswer(id=wish.id, local=await asyncio.to_thread(local_cameras)))


async def run_cameras(service: CameraService, clock: Clock, spool: Path, orders: IO[str]) -> None:
    """Watch cameras until the pipe from the tender closes. What comes by the pipe says where builds are."""
    priority.pictures()
    reader = asyncio.StreamReader()
    loop = asyncio.get_running_loop()
    await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), orders)
    cameras = CameraProcess(service, clock, spool)

    async def hear() -> None:
        while line := await reader.readline():
            cameras.follow(json.loads(line))

    await together(cameras.run(), hear())
