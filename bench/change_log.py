"""What the change log costs: transactions a second with it beside the same without it, by one writer and by eight, and
what reading it costs while nothing happens.

    python -m bench.change_log
"""

from __future__ import annotations

import asyncio
import statistics
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy.ext.asyncio import AsyncEngine, async_sessionmaker

from chronarch.records import tables as t
from chronarch.records.database import Sessions, make_engine, make_sessions, migrate
from chronarch.records.server import PrivateServer
from chronarch.service.changes import Changes

EACH, ROUNDS = 150, 3
NOW = datetime(2026, 10, 19, 9, tzinfo=UTC)


async def rate(sessions: Sessions, writers: int) -> float:
    """Small transactions a second."""

    async def write() -> None:
        for _ in range(EACH):
            async with sessions() as db:
                db.add(t.Notice(at=NOW, kind="service", gravity="note", text="x"))
                await db.commit()

    began = time.perf_counter()
    await asyncio.gather(*(write() for _ in range(writers)))
    return writers * EACH / (time.perf_counter() - began)


async def measure(engine: AsyncEngine) -> None:
    plain, logged = async_sessionmaker(engine, expire_on_commit=False), make_sessions(engine)
    await rate(logged, 8)  # warm
    for writers in (1, 8):
        pairs = [(await rate(plain, writers), await rate(logged, writers)) for _ in range(ROUNDS)]
        without, within = (statistics.median(p[n] for p in pairs) for n in (0, 1))
        figures = f"{within:.0f} transactions/s logged, {without:.0f} plain, ratio {within / without:.2f}"
        print(f"{writers} writer(s): {figures}")
    changes = Changes()
    await changes.read(logged)
    began, used = time.perf_counter(), time.process_time()
    for _ in range(200):
        await changes.read(logged)
    each, cpu = (time.perf_counter() - began) / 200, (time.process_time() - used) / 200
    print(f"reading an unchanged log: {each * 1000:.2f} ms, {cpu * 1000:.2f} ms of processor time, twice a second")


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="chronarch-bench-") as folder:
        server = PrivateServer(Path(folder))
        server.start()
        try:
            migrate(server.url)
            engine = make_engine(server.url)

            async def work() -> None:
                await measure(engine)
                await engine.dispose()

            asyncio.run(work())
        finally:
            server.stop()


if __name__ == "__main__":
    main()
