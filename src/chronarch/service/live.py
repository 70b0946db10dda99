"""The live stream: what changes goes to everybody who listens, as server-sent events."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from dataclasses import dataclass, field

QUEUE = 2000
KEEP_ALIVE_S = 15.0


@dataclass(frozen=True)
class LiveEvent:
    """One event: its name and its data as JSON."""

    name: str
    data: str

    def encode(self) -> bytes:
        return f"event: {self.name}\ndata: {self.data}\n\n".encode()


Listener = asyncio.Queue[LiveEvent | None]
"""What one listener has still to take; None ends it."""


@dataclass
class Hub:
    """Hands events to listeners. One that does not keep up is cut off, and connects anew."""

    _listeners: set[Listener] = field(default_factory=set)
    changes: int = 0
    """How often records have changed since the service began."""

    def publish(self, name: str, data: str) -> None:
        event = LiveEvent(name, data)
        for queue in list(self._listeners):
            try:
                queue.put_nowait(event)
            except asyncio.QueueFull:
                self.cut_off(queue)

    def changed(self, *what: str) -> None:
        """Tell that records of these kinds have changed."""
        self.changes += 1
        for kind in what:
            self.publish("changed", f'{{"what":"{kind}"}}')

    def close(self) -> None:
        """End all streams: the service stops."""
        for queue in list(self._listeners):
            self.cut_off(queue)

    def cut_off(self, queue: Listener) -> None:
        """End one stream after what it has still to take."""
        self._listeners.discard(queue)
        if queue.full():
            queue.get_nowait()
        queue.put_nowait(None)

    def listen(self) -> Listener:
        """A queue of whatever is published from now on."""
        queue: Listener = asyncio.Queue(QUEUE)
        self._listeners.add(queue)
        return queue

    async def stream(self, queue: Listener, first: list[LiveEvent]) -> AsyncIterator[bytes]:
        """Bytes for one listener: `first`, then what its queue brings."""
        try:
            for event in first:
                yield event.encode()
            while True:
                try:
                    async with asyncio.timeout(KEEP_ALIVE_S):
                        got = await queue.get()
                except TimeoutError:
                    yield b": still here\n\n"
                    continue
                if got is None:
                    return
                yield got.encode()
        finally:
            self._listeners.discard(queue)
