"""Reading uploaded files in processes of their own, off the event loop."""

from __future__ import annotations

import asyncio
import ctypes
import multiprocessing
import signal
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import asdict
from pathlib import Path
from typing import Any

from chronarch.core.fleet import MachineModel
from chronarch.core.gcode import Analysis, analyse
from chronarch.wire.upstream import WirePlan
from chronarch.wire.work import FileReading

CHUNK = 1 << 20


def _stop_with_parent() -> None:
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def _read(path: Path, model: MachineModel) -> Analysis:
    with path.open("rb") as source:
        return analyse(iter(lambda: source.read(CHUNK), b""), model)


class Readers:
    """A small pool of reading processes."""

    def __init__(self) -> None:
        self._pool = self._make()

    def _make(self) -> ProcessPoolExecutor:
        context = multiprocessing.get_context("spawn")
        return ProcessPoolExecutor(1, mp_context=context, initializer=_stop_with_parent)

    async def read(self, path: Path, model: MachineModel) -> Analysis:
        """What a file says, for a model. Raises NotGcode."""
        loop = asyncio.get_running_loop()
        try:
            return await loop.run_in_executor(self._pool, _read, path, model)
        except BrokenProcessPool:
            self._pool = self._make()
            return await loop.run_in_executor(self._pool, _read, path, model)

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)


def record(analysis: Analysis, size: int) -> tuple[dict[str, Any], dict[str, Any]]:
    """An analysis as the file's row keeps it: its figures, and its time plan."""
    figures = {k: v for k, v in asdict(analysis).items() if k not in ("plan", "layers")}
    reading = FileReading(**figures, layers=len(analysis.layers)).model_dump(mode="json")
    return {**reading, "size": size}, WirePlan.of(analysis.plan).model_dump(mode="json")
