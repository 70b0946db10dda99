"""Worker processes for work on files, which may take long, need much memory, or crash. A worker that dies or takes too
long is replaced, and its task is refused."""

from __future__ import annotations

import asyncio
import ctypes
import importlib
import logging
import multiprocessing
import signal
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from chronarch.core.errors import CoreError

TRIES = 2
LEAST_S, SLOWEST_BYTES_S = 60.0, 1e6
"""A task may take `LEAST_S`, and one second more for each `SLOWEST_BYTES_S` bytes of its file. A slow computer reads
ten times as fast."""
log = logging.getLogger("chronarch.workers")


class NotDone(CoreError):
    """The task took too long, or its worker died each time."""


class _Ended(Exception):
    """A worker ended before it answered."""


def allowed_s(size: int) -> float:
    """How many seconds work on so many bytes may take."""
    return LEAST_S + size / SLOWEST_BYTES_S


def _serve(mine: Connection, enter: str, *given: Any) -> None:
    """The worker's main loop. The worker ends when its parent does, ignores Ctrl-C, and is the first process that the
    kernel kills when memory runs out."""
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    with suppress(OSError):
        Path("/proc/self/oom_score_adj").write_text("1000")
    _named(enter)(*given)
    with suppress(EOFError, OSError):
        while True:
            work, arguments = mine.recv()
            try:
                answer = (True, _named(work)(*arguments))
            except Exception as error:
                answer = (False, error)
            try:
                mine.send(answer)
            except Exception as error:  # what it raised or returned cannot be pickled
                mine.send((False, RuntimeError(f"{work}: {answer[1]!r} ({error})")))


def _named(work: str) -> Callable[..., Any]:
    """`package.module:function`; the module is loaded in the worker alone."""
    module, _, name = work.partition(":")
    function: Callable[..., Any] = getattr(importlib.import_module(module), name)
    return function


class _Worker:
    def __init__(self, context: Any, enter: str, given: tuple[Any, ...]) -> None:
        self._ours, theirs = context.Pipe()
        self._process = context.Process(target=_serve, args=(theirs, enter, *given), daemon=True)
        self._process.start()
        theirs.close()

    def ask(self, work: str, arguments: tuple[Any, ...], within_s: float) -> Any:
        """Run one task and return its result; blocks. Raises what the task raises, and _Ended or TimeoutError, after
        which the worker is gone."""
        try:
            self._ours.send((work, arguments))
            if not self._ours.poll(within_s):
                raise TimeoutError
            good, found = self._ours.recv()
        except (EOFError, ConnectionError):
            self.end()
            raise _Ended from None
        except TimeoutError:
            self.end()
            raise
        if not good:
            raise found
        return found

    @property
    def alive(self) -> bool:
        return bool(self._process.is_alive())

    def kill(self) -> None:
        """End it; whoever waits for its answer is told."""
        self._process.kill()

    def end(self) -> None:
        self.kill()
        self._process.join()
        self._ours.close()


class ProcessPool:
    """A pool of `many` processes, each started when it is first needed. Each calls `enter` with `given` at its start;
    `given` may hold shared memory."""

    def __init__(self, many: int, enter: str, *given: Any) -> None:
        self._context = multiprocessing.get_context("spawn")
        self._enter, self._given = enter, given
        self._idle: list[_Worker] = []
        self._all: set[_Worker] = set()
        self._room = asyncio.Semaphore(many)
        self._closed = False

    async def run(self, work: str, *arguments: Any, within_s: float) -> Any:
        """Run `work`, a `module:function`, as soon as a worker is free. Raises what it raises, and NotDone when it
        takes longer than `within_s` or its worker dies `TRIES` times."""
        for _ in range(TRIES):
            try:
                return await self._once(work, arguments, within_s)
            except _Ended:
                log.warning("a worker ended while it did %s", work)
            except TimeoutError:
                raise NotDone(
                    f"It took longer than the {within_s:.0f} s that a file of its size may take, and was given up."
                ) from None
        raise NotDone(
            f"The process that worked on it ended {TRIES} times, as one does that needs more memory than there is."
        )

    async def _once(self, work: str, arguments: tuple[Any, ...], within_s: float) -> Any:
        async with self._room:
            worker = self._take()
            asked = asyncio.get_running_loop().run_in_executor(None, worker.ask, work, arguments, within_s)
            try:
                return await asyncio.shield(asked)
            except asyncio.CancelledError:
                worker.kill()  # nobody waits for the answer any more
                with suppress(Exception):
                    await asked
                raise
            finally:
                if worker.alive and not self._closed:
                    self._idle.append(worker)
                else:
                    self._all.discard(worker)

    def _take(self) -> _Worker:
        while self._idle:
            worker = self._idle.pop()
            if worker.alive:
                return worker
            self._all.discard(worker)
        worker = _Worker(self._context, self._enter, self._given)
        self._all.add(worker)
        return worker

    def close(self) -> None:
        self._closed = True
        for worker in self._all:
            worker.kill()
        self._all.clear()
