"""The live stream as server-sent events (WHATWG HTML, section 9.2)."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterable

from chronarch.service.changes import Changes, Listener, LiveEvent

KEEP_ALIVE_S = 15.0


def encode(event: LiveEvent) -> bytes:
    return f"event: {event.name}\ndata: {event.data}\n\n".encode()


async def stream(changes: Changes, queue: Listener, first: Iterable[LiveEvent]) -> AsyncIterator[bytes]:
    """Bytes for one listener: `first`, then what its queue brings, until it is cut off."""
    try:
        for event in first:
            yield encode(event)
        while True:
            try:
                async with asyncio.timeout(KEEP_ALIVE_S):
                    event_or_end = await queue.get()
            except TimeoutError:
                yield b": still here\n\n"
                continue
            if event_or_end is None:
                return
            yield encode(event_or_end)
    finally:
        changes.leave(queue)
