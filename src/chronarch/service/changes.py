"""Tells of changes: the live stream and the service's own workers hear of each, in the order of the change log."""

from __future__ import annotations

import asyncio
import json
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from chronarch.records import change_log
from chronarch.records.change_log import LoggedChange
from chronarch.records.database import Sessions
from chronarch.wire.system.shop import LiveEvent

QUEUE = 2000
AT_ONCE = 500
FORGET_EVERY = 5000
"""Readings of the log between two removals of its old rows."""


Listener = asyncio.Queue[LiveEvent | None]
"""What one listener has still to take; None ends it."""


@dataclass(eq=False)
class Watch:
    """What one worker waits for: changes of certain kinds of records."""

    kinds: frozenset[str] = frozenset()
    event: asyncio.Event = field(default_factory=asyncio.Event)
    subjects: set[str] = field(default_factory=set)
    """The names that were told with these changes since the worker last took them."""

    def take(self) -> set[str]:
        """Start to wait again. Returns the names that were told until now."""
        self.event.clear()
        subjects, self.subjects = self.subjects, set()
        return subjects


class Changes:
    """Reads the change log and tells what it says. A listener that does not keep up is cut off, and connects anew."""

    def __init__(self) -> None:
        self._listeners: set[Listener] = set()
        self._watches: list[Watch] = []
        self._read = 0
        self._reads = 0
        self.unread = Watch()
        """Set when this service has committed a change that is not told yet."""
        self._versions: Counter[str] = Counter()
        self._heard: list[Callable[[str, str], None]] = []
        self._own: set[int] = set()
        """The changes that were heard of when they were committed, and are not read yet."""

    def noticed(self, changes: Sequence[LoggedChange]) -> None:
        """This service has just committed changes."""
        for change in changes:
            if change.number > self._read:  # or it was read before this was told of it
                self._own.add(change.number)
            self._count(change.kind, change.subject)
        self.unread.event.set()

    def version(self, *kinds: str) -> tuple[int, ...]:
        """Differs from what it was as soon as this service has committed a change of one of the kinds, or has read one
        of another process."""
        return tuple(self._versions[kind] for kind in kinds)

    def hear(self, heard: Callable[[str, str], None]) -> None:
        """Have something called with the kind and subject of each change at that same moment."""
        self._heard.append(heard)

    def _count(self, kind: str, subject: str) -> None:
        self._versions[kind] += 1
        for heard in self._heard:
            heard(kind, subject)

    async def begin(self, sessions: Sessions) -> None:
        """Tell what the change log has from now on. This must be done before anything is read that changes are told
        of, and before anybody can change anything."""
        async with sessions() as db:
            self._read = (await change_log.span(db))[1]

    async def read(self, sessions: Sessions) -> None:
        """Tell what the change log has had since the last call, or since the beginning."""
        async with sessions() as db:
            while True:
                found = await change_log.changes_after(db, self._read, AT_ONCE)
                for change in found:
                    self._read = change.number
                    self._tell(change)
                if len(found) < AT_ONCE:
                    break
            self._reads += 1
            if self._reads % FORGET_EVERY == 0:
                await change_log.forget_old(db)

    async def since(self, sessions: Sessions, number: int) -> list[LiveEvent]:
        """What a listener missed that has heard everything up to a number of the log."""
        async with sessions() as db:
            oldest, newest = await change_log.span(db)
            found = await change_log.changes_after(db, number, QUEUE)
        if number < oldest or number > newest or len(found) == QUEUE:
            return [changed_event(LoggedChange(newest, "everything", ""))]
        return [changed_event(change) for change in found]

    def _tell(self, change: LoggedChange) -> None:
        if change.number in self._own:
            self._own.remove(change.number)
        else:
            self._count(change.kind, change.subject)
        self._send(changed_event(change))
        self.wake(change.kind, subject=change.subject)

    def publish(self, name: str, data: str) -> None:
        """Send an event that is not in the log to all listeners."""
        self._versions[name] += 1
        self._send(LiveEvent(name, data))

    def _send(self, event: LiveEvent) -> None:
        for queue in list(self._listeners):
            try:
                queue.put_nowait(event)
            except asyncio.QueueFull:
                self.cut_off(queue)

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
        """A queue of whatever is told from now on."""
        queue: Listener = asyncio.Queue(QUEUE)
        self._listeners.add(queue)
        return queue

    def leave(self, queue: Listener) -> None:
        self._listeners.discard(queue)


def changed_event(change: LoggedChange) -> LiveEvent:
    return LiveEvent("changed", json.dumps({"what": change.kind, "subject": change.subject}), change.number)
