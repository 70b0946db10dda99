"""The live stream as server-sent events (WHATWG HTML, section 9.2)."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterable

from chronarch.service.changes import Changes, Listener
from chronarch.wire.system.shop import LiveEvent

KEEP_ALIVE_S, GATHER_S = 15.0, 0.02
"""How long a listener hears nothing at most, and how long events are gathered to be sent together, in s."""


def encode(event: LiveEvent) -> bytes:
    number = f"id: {event.number}\n" if event.number else ""
    return f"event: {event.name}\n{number}data: {event.data}\n\n".encode()


async def stream(changes: Changes, queue: Listener, first: Iterable[LiveEvent]) -> AsyncIterator[bytes]:
    """Bytes for one listener: `first`, then what its queue brings beyond that, until it is cut off."""
    told, end = 0, False
    try:
        for event in first:
            told = max(told, event.number or 0)
            yield encode(event)
        while not end:
            try:
                async with asyncio.timeout(KEEP_ALIVE_S):
                    came = [await queue.get()]
            except TimeoutError:
                yield b": still here\n\n"
                continue
            await asyncio.sleep(GATHER_S)
            came += [queue.get_nowait() for _ in range(queue.qsize())]
            end = None in came
            piece = b"".join(encode(one) for one in came if one and not 0 < (one.number or 0) <= told)
            if piece:
                yield piece
    finally:
        changes.leave(queue)
