"""Machines that release their parts by themselves.

A machine is asked once its bed is cool, believed once the camera sees a clear bed, and asked no more often in a row
than its model allows while nobody is there.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Coroutine
from contextlib import suppress
from typing import Any

from sqlalchemy.exc import SQLAlchemyError

from chronarch.core.control import actions as hands
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.core.notices.kinds import NoticeKind
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.planning.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.bed_watching import BedWatching
from chronarch.wire.control.commands import Act, Clear

LOOK_EVERY_S = 1.0
SEEN_WITHIN_S = 60.0
WITHIN_S = 120.0
log = logging.getLogger("chronarch.releasing")


class PartRelease:
    """Watches the machines that may release parts; one release at a time for each machine."""

    def __init__(self, context: ServiceContext, fleet: Fleet, beds: BedWatching) -> None:
        self._context, self._fleet, self._beds = context, fleet, beds
        self._under_way: set[str] = set()
        self._tasks: set[asyncio.Task[None]] = set()

    async def look(self) -> None:
        """Have parts released as beds cool."""
        for known in self._fleet.all():
            if known.model.releases and known.row.name not in self._under_way:
                self._look(known)

    def _look(self, known: FleetMachine) -> None:
        row, brief = known.row, known.brief
        if not self._fleet.reachable(known) or not known.model.release_sequence:
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

    async def _release(self, known: FleetMachine, build: int) -> None:
        await self._write(known, build, await self._try(known))

    async def _sweep(self, known: FleetMachine) -> None:
        wish = hands.RunSequence(known.model.release_sequence, {})
        await self._fleet.command(known, Act(action=wish), "release", WITHIN_S)

    async def _try(self, known: FleetMachine) -> str:
        """Have the machine release its part, and check that it did. Returns what was wrong, nothing when the bed is
        clear."""
        why = self._beds.why_unseen(known)
        if why:
            return f"its bed cannot be looked at: {why}"
        try:
            await self._sweep(known)
        except ApiProblem as error:
            return str(error).removeprefix(f"{known.row.name}: ")
        return await self._beds.check(known, SEEN_WITHIN_S)

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
