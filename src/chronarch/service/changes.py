"""What has changed, told once to whoever waits for it: the live stream, and the service's own workers."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field

QUEUE = 2000


@dataclass(frozen=True)
class LiveEvent:
    """One event of the live stream: its name and its data as JSON."""

    name: str
    data: str


Listener = asyncio.Queue[LiveEvent | None]
"""What one listener has still to take; None ends it."""


@dataclass(eq=False)
class Watch:
    """What one worker waits for: changes of certain kinds of records."""

    kinds: frozenset[str]
    event: asyncio.Event = field(default_factory=asyncio.Event)
    subjects: set[str] = field(default_factory=set)
    """The names that were told with these changes since the worker last took them."""

    def take(self) -> set[str]:
        """Start to wait again. Returns the names that were told until now."""
        self.event.clear()
        subjects, self.subjects = self.subjects, set()
        return subjects


class Changes:
    """Tells of changes. A listener that does not keep up is cut off, and connects anew."""

    def __init__(self) -> None:
        self._listeners: set[Listener] = set()
        self._watches: list[Watch] = []
        self.count = 0
        """How often records have changed since the service started."""

    def publish(self, name: str, data: str) -> None:
        """Send an event to all listeners."""
        event = LiveEvent(name, data)
        for queue in list(self._listeners):
            try:
                queue.put_nowait(event)
            except asyncio.QueueFull:
                self.cut_off(queue)

    def tell(self, *kinds: str, subject: str = "") -> None:
        """Say that records of these kinds have changed, of one `subject` where it has a name."""
        self.count += 1
        for kind in kinds:
            self.publish("changed", f'{{"what":"{kind}"}}')
        self.wake(*kinds, subject=subject)

    def wake(self, *kinds: str, subject: str = "") -> None:
        """Make the workers that wait for one of these kinds look again. Listeners are not told."""
        for watch in self._watches:
            if not watch.kinds.isdisjoint(kinds):
                watch.event.set()
                if subject:
                    watch.subjects.add(subject)

    def watch(self, *kinds: str) -> Watch:
        """Returns what a worker waits for from now on."""
        watch = Watch(frozenset(kinds))
        self._watches.append(watch)
        return watch

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

    def leave(self, queue: Listener) -> None:
        self._listeners.discard(queue)
