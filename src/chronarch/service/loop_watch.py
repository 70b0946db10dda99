"""Sees when something holds the event loop, so that nobody else is served, and says what."""

from __future__ import annotations

import asyncio
import sys
import threading
import time
import traceback
from collections import deque
from datetime import timedelta
from types import FrameType

from chronarch.core.clock import Clock
from chronarch.wire.system import LoopHold

BEAT_S, HELD_S = 0.01, 0.05
"""How often the loop shows that it is free, and what counts as held."""
REMEMBERED = timedelta(minutes=10)
MOST = 100
UNSEEN = "one step of which nothing could be seen"
OWN = "chronarch"


class LoopWatch:
    """Watches the event loop that it is started on."""

    def __init__(self, clock: Clock) -> None:
        self._clock = clock
        self._holds: deque[LoopHold] = deque(maxlen=MOST)
        self._beat_s = 0.0
        self._busy_s = 0.0
        self._where = ""
        self._done = threading.Event()
        self._thread = threading.Thread(target=self._watch, name="loop watch", daemon=True)
        self._watched = 0
        self._loop: asyncio.AbstractEventLoop | None = None

    def start(self) -> None:
        self._loop, self._watched = asyncio.get_running_loop(), threading.get_ident()
        self._beat_s, self._busy_s = self._clock.monotonic_s(), time.thread_time()
        self._beat()
        self._thread.start()

    def stop(self) -> None:
        self._done.set()

    def _beat(self) -> None:
        now_s, busy_s = self._clock.monotonic_s(), time.thread_time()
        held_s = now_s - self._beat_s - BEAT_S
        if held_s > HELD_S:
            at = self._clock.real_now()
            self._holds.append(
                LoopHold(at=at, held_s=held_s, busy_s=busy_s - self._busy_s, where=self._where or UNSEEN)
            )
        self._beat_s, self._busy_s, self._where = now_s, busy_s, ""
        if self._loop is not None and not self._done.is_set():
            self._loop.call_later(BEAT_S, self._beat)

    def _watch(self) -> None:
        """While the loop is held, look what it is at."""
        while not self._done.wait(HELD_S / 2):
            if not self._where and self._clock.monotonic_s() - self._beat_s > HELD_S:
                frame = sys._current_frames().get(self._watched)
                self._where = _place(frame) if frame else ""

    def worst(self) -> LoopHold | None:
        """The hold of the last ten minutes in which it computed longest."""
        since = self._clock.real_now() - REMEMBERED
        return max((h for h in self._holds if h.at > since), key=lambda h: h.busy_s, default=None)


def _place(frame: FrameType) -> str:
    """The innermost line of our own code, or the innermost of all."""
    stack = traceback.extract_stack(frame)
    mine = [f for f in stack if f"/{OWN}/" in f.filename and not f.filename.endswith("loop_watch.py")]
    one = (mine or stack)[-1]
    return f"{one.filename.rpartition(f'/{OWN}/')[2]}:{one.lineno} {one.name}"
