"""Watches one camera: takes frames as often as they are wanted, and asks again and again while there are none."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Awaitable, Callable
from concurrent.futures import Executor
from dataclasses import dataclass
from datetime import datetime
from functools import partial

from chronarch.core.backoff import Backoff
from chronarch.core.watching.build_places import BuildPlaces
from chronarch.core.watching.frame_keeping import FrameReason, KeptPlace
from chronarch.core.watching.frame_rates import UNSEEN_EVERY_S, FrameRates
from chronarch.tender.peripherals.camera_picture import Picture, check_picture, full_picture, small_picture
from chronarch.tender.peripherals.camera_sources.source import CameraFailed, CameraSetup, Shot, Source
from chronarch.tender.peripherals.camera_sources.sources import make_source
from chronarch.wire.watching.camera_messages import FrameHead, KeptAs, Size, WatchedCamera

WAITS_S, LASTING_S = (1.0, 2.0, 5.0, 10.0, 20.0, 30.0), 60.0
MOST_DUE, TOO_LATE_S = 8, 10.0
"""How many reasons to keep a frame are remembered, and for how long (s): a picture that comes later shows something
else."""
SETTLES_WITHIN_S = 0.5
"""How long a frame waits at most until it is known where the machine was, real seconds."""
LAYERS_EVERY_S = 0.2
"""How soon after another a frame may be taken for a layer at the earliest, real seconds."""
log = logging.getLogger("chronarch.cameras")


@dataclass
class Outlet:
    """Where a watcher's frames go. `hand_on` returns when a frame is on its way, so that a slow line slows the camera;
    `tell` says that a camera has begun to give pictures, or why it does not, and since when (real time); `keep` keeps
    a frame. `keep_every_s`: how often one is kept, shop seconds."""

    hand_on: Callable[[FrameHead, bytes], Awaitable[None]]
    tell: Callable[[str, str, datetime], Awaitable[None]]
    keep: Callable[[FrameHead, KeptAs, bytes], Awaitable[None]]
    keep_every_s: float = 30.0


class CameraWatcher:
    """`run` goes on until cancelled. `look` may be called at any time."""

    def __init__(
        self, camera: WatchedCamera, setup: CameraSetup, rates: FrameRates, encoder: Executor, outlet: Outlet
    ) -> None:
        self.camera, self.name, self.setup = camera, camera.name, setup
        self._rates, self._encoder, self._outlet = rates, encoder, outlet
        self._wanted: dict[Size, float] = {"full": 0.0, "small": 0.0}
        self._sent_s: dict[Size, float] = {"full": -1e9, "small": -1e9}
        self._stir = asyncio.Event()
        self._places, self._working = BuildPlaces(), False
        self._due: list[tuple[FrameReason, KeptPlace, float]] = []
        """Why frames are to be kept now, where in the build, and since when (real seconds)."""
        self._kept_at: datetime | None = None
        self._trouble: str | None = None
        self._since: datetime | None = None

    def look(self, full: float, small: float) -> None:
        """How many frames a second somebody wants of each size."""
        self._wanted = {"full": full, "small": small}
        self._stir.set()

    def follow(self, place: KeptPlace, *, working: bool, why: FrameReason | None, at: datetime | None = None) -> None:
        """Where the machine it looks at is in its build since `at` (shop time), and why a frame is to be kept now, if
        it is."""
        self._places.tell(place, at)
        self._working = working
        if why is not None:
            self._due.append((why, place, self.setup.clock.monotonic_s()))
            del self._due[:-MOST_DUE]
            self._stir.set()

    async def say_again(self) -> None:
        """Tell how it stands to a service that has just come back."""
        if self._since is not None and self._trouble is not None:
            await self._outlet.tell(self.name, self._trouble, self._since)

    async def run(self) -> None:
        backoff = Backoff(WAITS_S, LASTING_S)
        while True:
            began_s = self.setup.clock.monotonic_s()
            source = make_source(self.setup)
            try:
                await self._watch(source)
            except CameraFailed as error:
                await self._say(str(error))
            except Exception as error:
                log.exception("the camera %s went wrong", self.name)
                await self._say(f"it could not be read ({type(error).__name__})")
            finally:
                await source.close()
            await asyncio.sleep(backoff.next_s(self.setup.clock.monotonic_s() - began_s))

    async def _watch(self, source: Source) -> None:
        while True:
            every_s = self._every_s()
            self._stir.clear()
            began_s = self.setup.clock.monotonic_s()
            await self._pass_on(await source.shot(every_s))
            await self._say("")
            await self._rest(began_s)

    def _every_s(self) -> float:
        """When the next frame is due: as people look, as one is to be kept, or at once, after what has happened."""
        looked_at = self._rates.every_s(max(self._wanted.values()))
        if self._due:
            return LAYERS_EVERY_S / self._rates.factor
        if not self._keeps:
            return looked_at
        return min(looked_at, self._outlet.keep_every_s / self.setup.clock.rate / self._rates.factor)

    @property
    def _keeps(self) -> bool:
        """Whether frames are kept as time passes: of machines that work, and of rooms."""
        return self._working or not self.camera.machine

    async def _keep(self, shot: Shot, full: Picture) -> None:
        """Keep the frame if one is due."""
        last = self._kept_at
        by_time = self._keeps and (last is None or (shot.at - last).total_seconds() >= 0.9 * self._outlet.keep_every_s)
        now_s, order = self.setup.clock.monotonic_s(), list(FrameReason)
        due, self._due = [one for one in reversed(self._due) if now_s - one[2] < TOO_LATE_S], []
        if due:
            why, place, _ = min(due, key=lambda one: order.index(one[0]))
        elif by_time:
            why, place = FrameReason.TIME, self._places.when(shot.at)
        else:
            return
        self._kept_at = shot.at
        kept = KeptAs(id="", why=why, build=place.build, layer=place.layer, command=place.command)
        await self._outlet.keep(self._head(shot, "full", full), kept, full.jpeg)

    def _head(self, shot: Shot, size: Size, picture: Picture) -> FrameHead:
        place = self._places.when(shot.at)
        return FrameHead(
            camera=self.name, size=size, taken_at=shot.taken_at, at=shot.at, width=picture.width, height=picture.height,
            build=place.build, command=place.command,
        )  # fmt: skip

    async def _rest(self, began_s: float) -> None:
        """Wait until the next frame is due; less long if somebody begins to look meanwhile."""
        while True:
            left_s = began_s + self._every_s() - self.setup.clock.monotonic_s()
            if left_s <= 0:
                return
            try:
                async with asyncio.timeout(left_s):
                    await self._stir.wait()
            except TimeoutError:
                return
            self._stir.clear()

    async def _settle(self, shot: Shot) -> None:
        """Where shop time runs faster, so much is laid in a moment that a frame waits until it is known where the
        machine was when it was taken."""
        until_s = self.setup.clock.monotonic_s() + SETTLES_WITHIN_S
        while self._working and self.setup.clock.rate > 1 and self.setup.clock.monotonic_s() < until_s:
            known_to = self._places.known_to
            if known_to is None or known_to >= shot.at:
                return
            await asyncio.sleep(0.02)

    async def _pass_on(self, shot: Shot) -> None:
        """Hand on what is due of the frame: the size that is looked at, and now and then the other."""
        await self._settle(shot)
        now_s = self.setup.clock.monotonic_s()
        due: list[Size] = [
            size
            for size in ("full", "small")
            if now_s - self._sent_s[size] >= 0.8 * self._rates.every_s(self._wanted[size])
        ]
        loop = asyncio.get_running_loop()
        in_thread = partial(loop.run_in_executor, self._encoder)
        full = await in_thread(full_picture, shot.jpeg, self.setup.settings)
        await self._keep(shot, full)  # first: a service that is slow to take live pictures costs none that is kept
        for size in due:
            picture = full if size == "full" else await in_thread(small_picture, full)
            self._sent_s[size] = now_s
            await self._outlet.hand_on(self._head(shot, size, picture), picture.jpeg)

    async def _say(self, trouble: str) -> None:
        if trouble != self._trouble:
            if not (trouble and self._trouble):  # another reason is no other trouble
                self._since = self.setup.clock.real_now()
            self._trouble = trouble
            assert self._since is not None
            await self._outlet.tell(self.name, trouble, self._since)


@dataclass(frozen=True)
class TriedCamera:
    """What a camera gave when it was tried, how long that took, and what should be known of it."""

    shot: Shot
    picture: Picture
    took_s: float
    warning: str


async def try_camera(setup: CameraSetup, encoder: Executor) -> TriedCamera:
    """Take one frame of a camera. Raises CameraFailed."""
    source, clock = make_source(setup), setup.clock
    loop = asyncio.get_running_loop()
    try:
        began_s = clock.monotonic_s()
        shot = await source.shot(0.0)
        first_s = clock.monotonic_s()
        warning = ""
        try:
            await source.shot(UNSEEN_EVERY_S)
        except CameraFailed as error:
            warning = f"one frame came, and then none: {error}"
        next_s = clock.monotonic_s() - first_s
        if not warning and next_s > 2.0:
            warning = f"one frame in {next_s:.0f} s: what moves will not be seen to move"
        picture = await loop.run_in_executor(encoder, full_picture, shot.jpeg, setup.settings)
        await loop.run_in_executor(encoder, check_picture, picture)
        return TriedCamera(shot, picture, first_s - began_s, warning)
    finally:
        await source.close()
