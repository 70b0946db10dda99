"""Machines that let go of their parts by themselves: asked once the bed is cool, believed once the camera sees it, and
not more often in a row than their model allows while nobody is there."""

from __future__ import annotations

import asyncio
import io
import logging
from collections.abc import Coroutine
from contextlib import suppress
from datetime import datetime

import numpy as np
from PIL import Image
from sqlalchemy.exc import SQLAlchemyError

from chronarch.core import hands
from chronarch.core.clear_bed import ALLOWED, Grey, difference
from chronarch.core.states import MachineState, Outcome
from chronarch.records import tables as t
from chronarch.service.fleet import Known
from chronarch.service.planning import load_settings
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop

LOOK_EVERY_S = 1.0
SEEN_WITHIN_S = 60.0
WITHIN_S = 120.0
THUMBNAIL = (96, 72)
WITHOUT_CAPTION = 0.94
"""Cameras write the time along the foot of their frames."""
log = logging.getLogger("chronarch.releasing")


def grey(frame: bytes) -> Grey:
    """A frame as a grey thumbnail."""
    with Image.open(io.BytesIO(frame)) as image:
        view = image.convert("L").crop((0, 0, image.width, round(image.height * WITHOUT_CAPTION)))
        small = view.resize(THUMBNAIL, Image.Resampling.BOX)
    return np.asarray(small, float)


class Releasing:
    """Watches the machines that may release; one release at a time a machine."""

    def __init__(self, shop: Shop) -> None:
        self._shop = shop
        self._under_way: set[str] = set()
        self._tasks: set[asyncio.Task[None]] = set()
        self._blind: dict[str, datetime | None] = {}
        """Machines that no camera saw when they showed their clear bed: the newest frame then."""

    async def watch_forever(self) -> None:
        """Have parts let go of as beds cool."""
        while True:
            await asyncio.sleep(LOOK_EVERY_S)
            for known in self._shop.fleet.all():
                if known.model.releases and known.row.name not in self._under_way:
                    self._look(known)

    def _look(self, known: Known) -> None:
        row, brief = known.row, known.brief
        if not self._shop.fleet.reachable(known) or not known.model.release_sequence:
            return
        if row.state == MachineState.IDLE and brief is None:
            if row.name in self._blind and known.frame_at != self._blind[row.name]:
                del self._blind[row.name]
                known.clear_frame = None  # its camera is back
            if known.must_pose:
                self._begin(known, self._pose(known))
            return
        left = brief is not None and brief.outcome is Outcome.COMPLETED and row.releases_left > 0
        if brief is not None and left and row.state == MachineState.UNCLEARED and not row.release_stuck:
            self._begin(known, self._release(known, brief.id))

    def _begin(self, known: Known, work: Coroutine[None, None, None]) -> None:
        self._under_way.add(known.row.name)
        task = asyncio.create_task(self._do(known, work))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _do(self, known: Known, work: Coroutine[None, None, None]) -> None:
        try:
            await work
        except (SQLAlchemyError, OSError) as error:
            log.warning("the release of %s waits for the database: %s", known.row.name, str(error).splitlines()[0])
            await asyncio.sleep(LOOK_EVERY_S)
        except Exception:
            log.exception("the release of %s went wrong", known.row.name)
            await asyncio.sleep(LOOK_EVERY_S)
        finally:
            self._under_way.discard(known.row.name)

    async def _pose(self, known: Known) -> None:
        """Have a machine with a clear bed go through its sequence, and keep what the camera sees then."""
        try:
            await self._sweep(known)
            known.clear_frame = await self._next_frame(known) or b""
            if not known.clear_frame:
                self._blind[known.row.name] = known.frame_at
                log.warning("%s could not show its clear bed: no camera frame has come", known.row.name)
        except Refused as error:
            log.warning("%s could not show its clear bed: %s", known.row.name, error)
            known.clear_frame = b""
        self._shop.work.set()

    async def _release(self, known: Known, build: int) -> None:
        await self._write(known, build, await self._try(known))

    async def _sweep(self, known: Known) -> None:
        wish = hands.Run(known.model.release_sequence, {})
        await self._shop.fleet.command(known, "act", WITHIN_S, action=wish, by="release")

    async def _next_frame(self, known: Known) -> bytes | None:
        """The second frame from now on: the first may have been taken before. None when none comes."""
        deadline = asyncio.get_running_loop().time() + SEEN_WITHIN_S
        seen = {known.frame_at}
        while asyncio.get_running_loop().time() < deadline:
            seen.add(known.frame_at)
            if len(seen) > 2:
                return known.frame
            await asyncio.sleep(0.1)
        return None

    async def _try(self, known: Known) -> str:
        """Have the machine let go, and look whether it has; says what was wrong, nothing when the bed is clear."""
        if not known.clear_frame:
            return "there is no camera frame of its clear bed to compare with"
        try:
            await self._sweep(known)
        except Refused as error:
            return str(error).removeprefix(f"{known.row.name}: ")
        frame = await self._next_frame(known)
        if frame is None:
            return "no camera frame has come since"
        clear = await asyncio.to_thread(grey, known.clear_frame)
        now = await asyncio.to_thread(grey, frame)
        share = difference(clear, now)
        return "" if share <= ALLOWED else f"the camera still sees something on the bed ({share:.1%} differs)"

    async def _write(self, known: Known, build: int, problem: str) -> None:
        shop = self._shop
        async with shop.sessions() as db:
            machine = await db.get_one(t.Machine, known.row.id, with_for_update=True)
            row = await db.get_one(t.Build, build, with_for_update=True)
            if row.cleared_at is not None:
                return  # somebody was quicker
            if problem:
                machine.release_stuck = problem[:300]
                text = f"{machine.name} could not let go of its part: {problem}. Lift it off."
                db.add(
                    t.Notice(at=shop.clock.now(), machine_id=machine.id, build_id=build, severity="alarm", text=text)
                )
            else:
                row.cleared_at, row.let_go = shop.clock.now(), True
                somebody = (await load_settings(db)).is_staffed(shop.clock.now(), machine.site)
                machine.releases_left = known.model.releases if somebody else machine.releases_left - 1
            await db.commit()
        if not problem:
            with suppress(Refused):
                await shop.fleet.command(known, "clear", build=build)
        async with shop.sessions() as db:
            await shop.fleet.load(db, known.row.name)
        shop.hub.changed("builds", "jobs", "notices", "plan")
        shop.work.set()
