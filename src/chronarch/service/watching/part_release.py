"""Machines that release their parts by themselves.

A machine is asked once its bed is cool, believed once the camera sees a clear bed, and asked no more often in a row
than its model allows while nobody is there.
"""

from __future__ import annotations

import asyncio
import io
import logging
from collections.abc import Coroutine
from contextlib import suppress
from datetime import datetime
from typing import Any

import numpy as np
from PIL import Image
from sqlalchemy.exc import SQLAlchemyError

from chronarch.core.control import actions as hands
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.watching.bed_clear import ALLOWED, Grey, difference
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.planning.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.cameras import Cameras, Looker
from chronarch.wire.control.commands import Act, Clear

LOOK_EVERY_S = 1.0
SEEN_WITHIN_S = 60.0
WITHIN_S = 120.0
LOOKS_PER_S = 2.0
THUMBNAIL = (96, 72)
WITHOUT_CAPTION = 0.94
"""Cameras write the time at the bottom of their frames; this share above it is compared."""
log = logging.getLogger("chronarch.releasing")


def grey(frame: bytes) -> Grey:
    """A frame as a grey thumbnail."""
    with Image.open(io.BytesIO(frame)) as image:
        view = image.convert("L").crop((0, 0, image.width, round(image.height * WITHOUT_CAPTION)))
        small = view.resize(THUMBNAIL, Image.Resampling.BOX)
    return np.asarray(small, float)


class PartRelease:
    """Watches the machines that may release parts; one release at a time for each machine."""

    def __init__(self, context: ServiceContext, fleet: Fleet, cameras: Cameras) -> None:
        self._context, self._fleet, self._cameras = context, fleet, cameras
        self._under_way: set[str] = set()
        self._tasks: set[asyncio.Task[None]] = set()
        self._blind: dict[str, datetime | None] = {}
        """Machines that no camera saw when they showed their clear bed, with the newest frame then."""

    async def look(self) -> None:
        """Have parts released as beds cool."""
        for known in self._fleet.all():
            if known.model.releases and known.row.name not in self._under_way:
                self._look(known)

    def _look(self, known: FleetMachine) -> None:
        row, brief = known.row, known.brief
        if not self._fleet.reachable(known) or not known.model.release_sequence:
            return
        if row.state == MachineState.IDLE and brief is None:
            if row.name in self._blind and known.frame_at != self._blind[row.name]:
                del self._blind[row.name]
                known.clear_frame = None  # its camera works again
            if known.must_pose:
                self._begin(known, self._pose(known))
            return
        left = brief is not None and brief.outcome is Outcome.COMPLETED and row.releases_left > 0
        if brief is not None and left and row.state == MachineState.UNCLEARED and not row.release_stuck:
            self._begin(known, self._release(known, brief.id))

    def _begin(self, known: FleetMachine, work: Coroutine[None, None, None]) -> None:
        self._under_way.add(known.row.name)
        task = asyncio.create_task(self._do(known, work))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _do(self, known: FleetMachine, work: Coroutine[None, None, None]) -> None:
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

    async def _pose(self, known: FleetMachine) -> None:
        """Have a machine with a clear bed run its sequence, and keep what the camera sees then."""
        try:
            await self._sweep(known)
            known.clear_frame = await self._next_frame(known) or b""
            if not known.clear_frame:
                self._blind[known.row.name] = known.frame_at
                log.warning("%s could not show its clear bed: no camera frame has come", known.row.name)
        except ApiProblem as error:
            log.warning("%s could not show its clear bed: %s", known.row.name, error)
            known.clear_frame = b""
        self._context.changes.wake("machines")

    async def _release(self, known: FleetMachine, build: int) -> None:
        await self._write(known, build, await self._try(known))

    async def _sweep(self, known: FleetMachine) -> None:
        wish = hands.RunSequence(known.model.release_sequence, {})
        await self._fleet.command(known, Act(action=wish), "release", WITHIN_S)

    async def _next_frame(self, known: FleetMachine) -> bytes | None:
        """The second frame from now on: the first may have been taken before. None when none comes."""
        deadline = asyncio.get_running_loop().time() + SEEN_WITHIN_S
        seen, looker = {known.frame_at}, Looker()
        await self._cameras.look(looker, {known.camera: ("full", LOOKS_PER_S)})
        try:
            while asyncio.get_running_loop().time() < deadline:
                seen.add(known.frame_at)
                if len(seen) > 2:
                    return known.frame
                await asyncio.sleep(0.1)
            return None
        finally:
            await self._cameras.look(looker, {})

    async def _try(self, known: FleetMachine) -> str:
        """Have the machine release its part, and check that it did. Returns what was wrong, nothing when the bed is
        clear."""
        if not known.clear_frame:
            return "there is no camera frame of its clear bed to compare with"
        try:
            await self._sweep(known)
        except ApiProblem as error:
            return str(error).removeprefix(f"{known.row.name}: ")
        frame = await self._next_frame(known)
        if frame is None:
            return "no camera frame has come since"
        clear = await asyncio.to_thread(grey, known.clear_frame)
        now = await asyncio.to_thread(grey, frame)
        share = difference(clear, now)
        return "" if share <= ALLOWED else f"the camera still sees something on the bed ({share:.1%} differs)"

    async def _write(self, known: FleetMachine, build: int, problem: str) -> None:
        async with self._context.sessions() as db:
            machine = await db.get_one(t.Machine, known.row.id, with_for_update=True)
            row = await db.get_one(t.Build, build, with_for_update=True)
            if row.cleared_at is not None:
                return  # somebody was quicker
            if problem:
                machine.release_stuck = problem[:300]
                text = f"{machine.name} could not let go of its part: {problem}. Lift it off."
                about: dict[str, Any] = {"machine_id": machine.id, "build_id": build}
                now = self._context.clock.now()
                await open_notice(db, NoticeKind.RELEASE_STUCK, now, text, subject=machine.id, **about)
            else:
                row.cleared_at, row.let_go = self._context.clock.now(), True
                somebody = (await load_settings(db)).is_staffed(self._context.clock.now(), machine.site)
                machine.releases_left = known.model.releases if somebody else machine.releases_left - 1
            await db.commit()
        if not problem:
            with suppress(ApiProblem):
                await self._fleet.command(known, Clear(build=build))
        async with self._context.sessions() as db:
            await self._fleet.load(db, known.row.name)
