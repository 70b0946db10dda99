"""The live stream as server-sent events (WHATWG HTML, section 9.2)."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterable

from chronarch.service.changes import Changes, Listener
from chronarch.wire.system import LiveEvent

KEEP_ALIVE_S = 15.0


def encode(event: LiveEvent) -> bytes:
    number = f"id: {event.number}\n" if event.number else ""
    return f"event: {event.name}\n{number}data: {event.data}\n\n".encode()


async def stream(changes: Changes, queue: Listener, first: Iterable[LiveEvent]) -> AsyncIterator[bytes]:
    """Bytes for one listener: `first`, then what its queue brings beyond that, until it is cut off."""
    told = 0
    try:
        for event in first:
            told = max(told, event.number or 0)
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
            if not 0 < (event_or_end.number or 0) <= told:
                yield encode(event_or_end)
    finally:
        changes.leave(queue)
