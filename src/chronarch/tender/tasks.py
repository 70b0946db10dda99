"""Tasks that belong together, and ending them for certain.

Before Python 3.12 `asyncio.wait_for` loses a cancellation that comes just as its awaited task is done, also inside
libraries. So a task is cancelled again until it has ended.
"""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine, Iterable
from typing import Any

ASK_AGAIN_S = 0.1


async def end(tasks: Iterable[asyncio.Task[Any]]) -> None:
    """Cancel tasks and wait until they are over; what they raise is dropped."""
    mine = set(tasks)
    pending = mine
    while pending:
        for task in pending:
            task.cancel()
        _, pending = await asyncio.wait(pending, timeout=ASK_AGAIN_S)
    for task in mine:
        if not task.cancelled():
            task.exception()


async def together(*work: Coroutine[Any, Any, None]) -> None:
    """Do all of it until one part ends; then the others are ended. Raises what a part raised."""
    tasks = [asyncio.create_task(part) for part in work]
    try:
        done, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
        for task in done:
            task.result()
    finally:
        await end(tasks)
