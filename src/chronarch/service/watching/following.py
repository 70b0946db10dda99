"""Does what follows of a suspicion: pauses the build, or has it go on without an object."""

from __future__ import annotations

import asyncio
import logging
from dataclasses import dataclass, field

from chronarch.core.machines.states import BuildState
from chronarch.core.watching.suspicion import Suspicion
from chronarch.core.watching.watch_rules import Follow, what_is_done
from chronarch.records import tables as t
from chronarch.service.context import ServiceContext
from chronarch.service.control.builds import have_done
from chronarch.service.control.leave_out import leave_out
from chronarch.service.library.content_store import ContentStore
from chronarch.service.library.readers import ContentReaders
from chronarch.service.machines.fleet import Fleet
from chronarch.service.problems import ApiProblem
from chronarch.wire.control.commands import Pause

BY = "the watch"
TRIES, AGAIN_S = 5, 3.0
log = logging.getLogger("chronarch.watch")


@dataclass
class Following:
    """One task for each suspicion that something follows of."""

    context: ServiceContext
    fleet: Fleet
    contents: ContentStore
    readers: ContentReaders
    _tasks: set[asyncio.Task[None]] = field(default_factory=set)

    def begin(self, number: int, build: int, found: Suspicion, follow: Follow, objects: int) -> None:
        """Do what follows of the suspicion of this number, and note it in its record."""
        task = asyncio.create_task(self._follow(number, build, found, what_is_done(follow, found.object, objects - 1)))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _follow(self, number: int, build: int, found: Suspicion, what: Follow) -> None:
        problem, wanted = "", what
        for tried in range(TRIES):
            try:
                already = await self._already(number, build, found, wanted, what)
                if already is not None:
                    problem, what = "", already
                    break
                await self._do(build, found, what)
                problem = ""
                break
            except ApiProblem as error:
                problem = str(error)[:300]
                if what is Follow.LEAVE_OUT:
                    what = Follow.PAUSE  # what cannot be left out must not go on
                elif tried < TRIES - 1:
                    await asyncio.sleep(AGAIN_S)
            except Exception as error:
                log.exception("what follows of a suspicion of build %d could not be done", build)
                problem = f"it could not be done ({type(error).__name__})"
                break
        async with self.context.sessions() as db:
            row = await db.get_one(t.Suspicion, number)
            row.problem = problem
            row.followed = Follow.TELL if problem else what
            await db.commit()

    async def _already(self, number: int, build: int, found: Suspicion, wanted: Follow, what: Follow) -> Follow | None:
        """What has followed without this, if nothing more is to be done: somebody has called it a false alarm, the
        object is left out, or the build is paused. A pause that comes late would undo what a person has decided."""
        async with self.context.sessions() as db:
            row, made = await db.get_one(t.Suspicion, number), await db.get_one(t.Build, build)
        if row.right is False:
            return Follow.TELL
        if wanted is Follow.LEAVE_OUT and found.object in [skip["object"] for skip in made.skips]:
            return Follow.LEAVE_OUT
        return what if what is Follow.PAUSE and made.state == BuildState.PAUSED else None

    async def _do(self, build: int, found: Suspicion, what: Follow) -> None:
        if what is Follow.LEAVE_OUT:
            await leave_out(self.context, self.fleet, self.contents, self.readers, build, [found.object], BY)
            return
        reason = f"the watch, {found.probability:.0%} sure: {found.sentence}".rstrip(".")
        await have_done(self.context, self.fleet, build, Pause(reason=reason[:300]), BY)
