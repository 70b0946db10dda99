"""A second event loop, in a thread of its own with its own connections to the database: for reading and computing that
takes long, so that nobody else waits for it."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Awaitable, Callable, Coroutine
from typing import Annotated, Any, TypeVar

from sqlalchemy.ext.asyncio import AsyncEngine, AsyncSession

from chronarch.records.database import make_engine, make_sessions
from chronarch.service.context import part

R = TypeVar("R")


class Background:
    """Does work for the event loop that the service runs on. What it is given must not change meanwhile, and it changes
    nothing in the database that the change log has: nobody hears of it here."""

    def __init__(self, database: str) -> None:
        self._database = database
        self._loop = asyncio.new_event_loop()
        self._engine: AsyncEngine | None = None
        self._thread = threading.Thread(target=self._run, name="background", daemon=True)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_forever()

    def start(self) -> None:
        self._engine = make_engine(self._database)
        self._sessions = make_sessions(self._engine)
        self._thread.start()

    async def run(self, work: Callable[[AsyncSession], Awaitable[R]]) -> R:
        """The result of `work`, which gets a session of the database. Raises what it raises."""

        async def go() -> R:
            async with self._sessions() as db:
                return await work(db)

        return await self._hand_over(go())

    async def compute(self, work: Callable[[], R]) -> R:
        """The result of `work`, which needs no database."""

        async def go() -> R:
            return work()

        return await self._hand_over(go())

    async def _hand_over(self, work: Coroutine[Any, Any, R]) -> R:
        if not self._thread.is_alive():
            work.close()
            raise RuntimeError("The background does not run; nothing would ever answer.")
        return await asyncio.wrap_future(asyncio.run_coroutine_threadsafe(work, self._loop))

    async def close(self) -> None:
        """Wait for nothing; what is under way is given up."""

        async def end() -> None:
            assert self._engine is not None
            mine = asyncio.current_task()
            others = [task for task in asyncio.all_tasks() if task is not mine]
            for task in others:
                task.cancel()
            await asyncio.gather(*others, return_exceptions=True)
            await self._engine.dispose()

        await self._hand_over(end())
        self._loop.call_soon_threadsafe(self._loop.stop)
        await asyncio.to_thread(self._thread.join)
        self._loop.close()


TheBackground = Annotated[Background, part(Background)]
