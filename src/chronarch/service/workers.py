"""Work that goes on for as long as the service runs: each worker is named, supervised and seen in health."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Awaitable, Callable, Coroutine
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from sqlalchemy.exc import SQLAlchemyError

from chronarch.core.backoff import Backoff
from chronarch.records.audit import Act, doing
from chronarch.records.failures import away
from chronarch.service.changes import Watch

WAITS_S, LASTING_S = (1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 60.0), 60.0
FIRST_WITHIN_S = 20.0
"""What works seldom does its first step soon after the start."""
AWAY_S = 1.0
"""How long to wait for a database or disk that is away."""
log = logging.getLogger("chronarch.service")


@dataclass
class Worker:
    """Does `step` again and again: every `every_s` seconds, and at once when its `watch` sees a change. While the
    database is away it waits for it; an unexpected error is logged, and the next step comes after a growing pause."""

    name: str
    step: Callable[[], Awaitable[object]]
    every_s: float | None = None
    watch: Watch | None = None
    now: Callable[[], datetime] = field(kw_only=True)
    """Real time."""
    acts_as: str = field(default="", kw_only=True)
    """The name under which the audit tells of the rows that it changes; empty where that follows from others' deeds."""
    beat_at: datetime | None = None
    """When the last step was done, real time."""
    lag_s: float = 0.0
    """How long after it was due."""
    restarts: int = 0
    """How often a step has failed unexpectedly."""
    problem: str = ""
    """Why the last step was not done; empty when it was."""
    _backoff: Backoff = field(default_factory=lambda: Backoff(WAITS_S, LASTING_S))

    async def run_forever(self) -> None:
        clock = asyncio.get_running_loop().time
        last_failure_s = clock()
        while True:
            await self._due()
            due_s = clock()
            try:
                await self._act()
            except Exception as error:
                first = f"{str(error).splitlines()[0] if str(error) else type(error).__name__}"
                if isinstance(error, OSError) or (isinstance(error, SQLAlchemyError) and away(error)):
                    if not self.problem:
                        log.warning("%s waits: %s", self.name, first)
                    wait_s = AWAY_S
                else:
                    self.restarts += 1
                    wait_s = self._backoff.next_s(clock() - last_failure_s)
                    last_failure_s = clock()
                    log.exception("%s went wrong; it goes on in %.0f s", self.name, wait_s)
                self.problem = first
                if self.watch is not None:
                    self.watch.event.set()  # what it was to look at is still to be looked at
                await asyncio.sleep(wait_s)
                continue
            self.problem, self.beat_at, self.lag_s = "", self.now(), clock() - due_s

    async def _act(self) -> None:
        if not self.acts_as:
            await self.step()
            return
        with doing(Act(self.now(), self.acts_as, self.name, plainly=False)):
            await self.step()

    async def _due(self) -> None:
        """Wait until the next step is due."""
        if self.watch is None:
            every_s = self.every_s or 0.0
            await asyncio.sleep(every_s if self.beat_at else min(every_s, FIRST_WITHIN_S))
            return
        try:
            async with asyncio.timeout(self.every_s):
                await self.watch.event.wait()
        except TimeoutError:
            pass
        self.watch.event.clear()


@dataclass
class LongWork:
    """Work that takes longer than a worker's step may: it goes on beside the steps. What goes wrong in it goes wrong in
    the step after it."""

    _task: asyncio.Task[object] | None = None

    def busy(self) -> bool:
        """Whether it goes on. Raises what went wrong in it, once."""
        if self._task is None or not self._task.done():
            return self._task is not None
        task, self._task = self._task, None
        task.result()
        return False

    def begin(self, work: Coroutine[Any, Any, object]) -> None:
        self._task = asyncio.create_task(work)
