"""Background tasks that run for as long as the service runs."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Coroutine
from typing import Any

FIRST_WAIT_S, LONGEST_WAIT_S = 1.0, 60.0
log = logging.getLogger("chronarch.service")


async def keep_going(work: Callable[[], Coroutine[Any, Any, None]]) -> None:
    """Run a task for ever: an unexpected error is logged, and the task is started again after a pause."""
    wait_s = FIRST_WAIT_S
    while True:
        try:
            await work()
            return
        except Exception:
            log.exception("%s went wrong; it begins again in %.0f s", getattr(work, "__qualname__", work), wait_s)
        await asyncio.sleep(wait_s)
        wait_s = min(wait_s * 2, LONGEST_WAIT_S)
