"""Sees when something holds the event loop, so that nobody else is served, and says what."""

from __future__ import annotations

import asyncio
import signal
import threading
import time
from collections import deque
from datetime import timedelta
from types import FrameType

from chronarch.core.clock import Clock
from chronarch.wire.system.health import LoopHold

BEAT_S, HELD_S = 0.01, 0.05
"""How often the loop shows that it is free, and what counts as held."""
REMEMBERED = timedelta(minutes=10)
MOST = 100
UNSEEN = "one step of which nothing could be seen"
OWN = "chronarch"
ASKS = signal.SIGURG
"""Asks the held thread where it is. It answers itself: what CPython 3.11 shows of another thread's frames may be gone
while it is read, which ends the process. Where nobody listens, this signal does nothing."""


class LoopWatch:
    """Watches the event loop that it is started on. What holds it is only seen on a process's main thread."""

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
        self._loop = asyncio.get_running_loop()
        if threading.current_thread() is threading.main_thread():
            self._watched = threading.get_ident()
            signal.signal(ASKS, self._answer)
        self._beat_s, self._busy_s = self._clock.monotonic_s(), time.thread_time()
        self._beat()
        self._thread.start()

    def stop(self) -> None:
        self._done.set()
        self._thread.join()

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
        """While the loop is held, ask what it is at."""
        while not self._done.wait(HELD_S / 2):
            if self._watched and self._is_held():
                signal.pthread_kill(self._watched, ASKS)

    def _is_held(self) -> bool:
        return not self._where and self._clock.monotonic_s() - self._beat_s > HELD_S

    def _answer(self, _: int, frame: FrameType | None) -> None:
        if frame is not None and self._is_held():
            self._where = _place(frame)

    def worst(self) -> LoopHold | None:
        """The hold of the last ten minutes in which it computed longest."""
        since = self._clock.real_now() - REMEMBERED
        return max((h for h in self._holds if h.at > since), key=lambda h: h.busy_s, default=None)


def _place(frame: FrameType) -> str:
    """The innermost line of our own code, or the innermost of all."""
    one, at = frame, frame.f_back
    while f"/{OWN}/" not in one.f_code.co_filename and at is not None:
        one, at = at, at.f_back
    if f"/{OWN}/" not in one.f_code.co_filename:
        one = frame
    return f"{one.f_code.co_filename.rpartition(f'/{OWN}/')[2]}:{one.f_lineno} {one.f_code.co_name}"
