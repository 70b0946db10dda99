"""Work that must never delay the feeding, in a process of its own at low priority: cameras, and sending logs of builds
to the service.

The tender tells it what to do in JSON lines on its standard input. When that input ends, the process ends.
"""

from __future__ import annotations

import asyncio
import contextlib
import gzip
import json
import logging
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import IO, Any

from chronarch.client import AsyncClient, ClientError
from chronarch.client.errors import RefusedByService
from chronarch.tender.peripherals.cameras import watch_camera
from chronarch.tender.tasks import end

FRAME_EVERY_S = 2.0
NICER = 15
RETRY_S = 5.0
log = logging.getLogger("chronarch.background")


class BackgroundProcess:
    """The tender's side: starts the process, and starts it again if it dies."""

    def __init__(self, service: str, key: str) -> None:
        self._environment = {**os.environ, "CHRONARCH_ADDRESS": service, "CHRONARCH_TENDER_KEY": key}
        self._process: subprocess.Popen[str] | None = None
        self._told: dict[str, dict[str, Any]] = {}

    def tell(self, what: dict[str, Any]) -> None:
        """Have something done. A second request of the same name replaces the first."""
        self._told[what["name"]] = what
        if self._running() is not None:
            self._write(what)

    def look_after(self) -> None:
        """Start the process again if it has died."""
        if self._told and self._running() is None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "chronarch", "tender", "background"],
                stdin=subprocess.PIPE,
                text=True,
                env=self._environment,
            )
            for what in self._told.values():
                self._write(what)

    def _running(self) -> subprocess.Popen[str] | None:
        process = self._process
        return process if process is not None and process.poll() is None else None

    def _write(self, what: dict[str, Any]) -> None:
        process = self._running()
        if process is not None and process.stdin is not None:
            with contextlib.suppress(OSError, ValueError):
                process.stdin.write(json.dumps(what) + "\n")
                process.stdin.flush()

    def close(self) -> None:
        process = self._running()
        if process is not None:
            process.kill()
            process.wait()


def yield_to_feeding() -> None:
    """Let this process run only when nothing else wants the processor, or seldom where that cannot be had."""
    try:
        os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
    except (OSError, AttributeError):
        os.nice(NICER)


async def run_background(service: str, key: str, orders: IO[str]) -> None:
    """Do what the tender says until its pipe closes."""
    yield_to_feeding()
    tasks: dict[str, asyncio.Task[None]] = {}
    reader = asyncio.StreamReader()
    loop = asyncio.get_running_loop()
    await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), orders)
    async with AsyncClient(service, key) as client:
        while line := await reader.readline():
            order = json.loads(line)
            name = order["name"]
            if name in tasks:
                tasks.pop(name).cancel()
            if order["what"] == "camera" and order["url"]:
                work = watch_camera(order["machine"], order["url"], order.get("every_s", FRAME_EVERY_S), client)
                tasks[name] = asyncio.create_task(work)
            elif order["what"] == "log":
                tasks[name] = asyncio.create_task(hand_on_log(order["build"], Path(order["path"]), client))
        await end(tasks.values())


async def hand_on_log(build: int, path: Path, client: AsyncClient) -> None:
    """Give the log of a build to the service, packed, and delete it here once the service has it."""
    packed = path.with_suffix(".log.gz")
    while path.exists():
        try:
            await asyncio.to_thread(_pack, path, packed)
            await client.put_log(build, packed)
        except RefusedByService as error:
            log.warning("the log of build %d was refused: %s", build, error)
        except (ClientError, OSError) as error:
            log.info("the log of build %d waits: %s", build, error)
            await asyncio.sleep(RETRY_S)
            continue
        path.unlink(missing_ok=True)
        packed.unlink(missing_ok=True)


def _pack(path: Path, packed: Path) -> None:
    with path.open("rb") as source, gzip.open(packed, "wb", compresslevel=4) as out:
        shutil.copyfileobj(source, out, 1 << 20)
