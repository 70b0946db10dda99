"""Machines that let go of their parts by themselves: asked once the bed is cool, believed once the camera sees it, and
not more often in a row than their model allows while nobody is there."""

from __future__ import annotations

import asyncio
import io
import logging
from contextlib import suppress

import numpy as np
from PIL import Image
from sqlalchemy.exc import SQLAlchemyError

from chronarch.core import hands
from chronarch.core.clear_bed import Grey, difference, is_clear
from chronarch.core.states import MachineState, Outcome
from chronarch.records import tables as t
from chronarch.service.fleet import Known
from chronarch.service.planning import load_settings
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop

LOOK_EVERY_S = 1.0
SEEN_WITHIN_S = 20.0
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

    async def watch_forever(self) -> None:
        """Have parts let go of as beds cool."""
        while True:
            await asyncio.sleep(LOOK_EVERY_S)
            for known in self._shop.fleet.all():
                if known.model.releases and known.row.name not in self._under_way:
                    self._look(known)

    def _look(self, known: Known) -> None:
        row, brief = known.row, known.brief
        ready = row.state == MachineState.UNCLEARED and brief is not None and self._shop.fleet.reachable(known)
        if not ready or brief is None or row.release_stuck or row.releases_left <= 0:
            return
        if brief.outcome is not Outcome.COMPLETED or not known.model.release_sequence:
            return
        self._under_way.add(row.name)
        task = asyncio.create_task(self._release(known, brief.id))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _release(self, known: Known, build: int) -> None:
        name = known.row.name
        try:
            problem = await self._try(known)
            await self._write(known, build, problem)
        except (SQLAlchemyError, OSError) as error:
            log.warning("the release of %s waits for the database: %s", name, str(error).splitlines()[0])
            await asyncio.sleep(LOOK_EVERY_S)
        finally:
            self._under_way.discard(name)

    async def _try(self, known: Known) -> str:
        """Have the machine let go, and look whether it has; says what was wrong, nothing when the bed is clear."""
        clear = known.clear_frame
        if not clear:
            return "there is no camera frame of its clear bed to compare with"
        wish = hands.Run(known.model.release_sequence, {})
        try:
            await self._shop.fleet.command(known, "act", WITHIN_S, action=wish, by="release")
        except Refused as error:
            return str(error).removeprefix(f"{known.row.name}: ")
        done = known.frame_at
        deadline = asyncio.get_running_loop().time() + SEEN_WITHIN_S
        share = 1.0
        reference = await asyncio.to_thread(grey, clear)
        while asyncio.get_running_loop().time() < deadline:
            if known.frame and known.frame_at != done:
                done = known.frame_at
                now = await asyncio.to_thread(grey, known.frame)
                share = difference(reference, now)
                if is_clear(reference, now):
                    return ""
            await asyncio.sleep(0.1)
        return f"the camera still sees something on the bed ({share:.0%} of it)" if share < 1 else "no new camera frame"

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
