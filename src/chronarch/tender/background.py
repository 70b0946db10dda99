"""Sending the logs of builds to the service: work that may wait, in a process of its own that runs only when nothing
else wants to."""

from __future__ import annotations

import asyncio
import gzip
import json
import logging
import shutil
from pathlib import Path
from typing import IO

from chronarch.client import AsyncClient, ClientError
from chronarch.client.errors import RefusedByService
from chronarch.tender.priority import yield_to_all
from chronarch.tender.tasks import end

RETRY_S = 5.0
log = logging.getLogger("chronarch.background")


async def run_background(service: str, key: str, orders: IO[str]) -> None:
    """Do what the tender says until its pipe closes."""
    yield_to_all()
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
