"""Background tasks that run for as long as the service runs."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Coroutine
from typing import Any

from chronarch.core.backoff import Backoff

WAITS_S, LASTING_S = (1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 60.0), 60.0
log = logging.getLogger("chronarch.service")


async def keep_going(work: Callable[[], Coroutine[Any, Any, None]]) -> None:
    """Run a task for ever. An unexpected error is logged, and the task is started again after a pause."""
    backoff, clock = Backoff(WAITS_S, LASTING_S), asyncio.get_running_loop().time
    while True:
        began = clock()
        try:
            await work()
            return
        except Exception:
            wait_s = backoff.next_s(clock() - began)
            log.exception("%s went wrong; it begins again in %.0f s", getattr(work, "__qualname__", work), wait_s)
        await asyncio.sleep(wait_s)
