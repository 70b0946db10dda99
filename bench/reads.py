"""What reading a large shop costs: each list and view as a client gets it, made anew after a change and kept, beside a
bare query of the same rows or a bare application that sends the same bytes, measured in the same run; how soon 200
listeners see a change; how long the service's event loop was held; how much of the processor was stolen meanwhile.

    python -m bench.reads [--small] [--keep FOLDER]
"""

from __future__ import annotations

import argparse
import asyncio
import json
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
import websockets

from bench.large_shop import Size, fill
from bench.stolen import Stolen
from chronarch.core.access.rights import GivenRole
from chronarch.records.database import migrate
from chronarch.records.ports import free_ports
from chronarch.records.server import PrivateServer
from chronarch.service.command import register_key
from chronarch.service.config import Config

TIMES, LISTENERS, CHANGES, RATE_FOR_S, TURNS = 15, 200, 40, 0.25, 40
LIMIT_MS, YEAR_MS, SEEN_MS, SHARE = 300.0, 1000.0, 250.0, 0.6
SMALL = Size(machines=30, files=500, waiting=200, builds=6000)
MEMORY = f"innodb_buffer_pool_size = {512 << 20}"
WHILE_FILLING = f"innodb_buffer_pool_size = {4 << 30}", "innodb_flush_log_at_trx_commit = 0"
BARE = """
import sys
from fastapi import FastAPI, Response
import uvicorn
app, body = FastAPI(), open(sys.argv[2], "rb").read()
@app.get("/api/machines")
async def machines():
    return Response(body, media_type="application/json")
uvicorn.run(app, port=int(sys.argv[1]), log_config=None, log_level="error")
"""


class Shop:
    """A service over the large shop, with a tender that says how its machines are."""

    def __init__(self, folder: Path, size: Size) -> None:
        self.folder, self.size = folder, size
        self.server = PrivateServer(folder / "db")
        self.port, self.bare_port = free_ports(2)
        self.address = f"http://127.0.0.1:{self.port}"
        self.processes: list[subprocess.Popen[bytes]] = []

    def open(self) -> None:
        made = (self.folder / "made").exists()
        self.server.start()
        with self.server.connect() as connection, connection.cursor() as cursor:
            cursor.execute(f"set global {MEMORY}")
        migrate(self.server.url)
        now = datetime.now(UTC).replace(tzinfo=None)
        if not made:
            began = time.perf_counter()
            with self.server.connect("chronarch") as connection, connection.cursor() as cursor:
                connection.autocommit(True)
                for more in WHILE_FILLING:
                    cursor.execute(f"set global {more}")
                fill(cursor, self.size, now)
                cursor.execute(f"set global {MEMORY}")
            print(f"the shop is made in {time.perf_counter() - began:.0f} s", flush=True)
        config = Config(self.server.url, self.folder / "blobs")
        (self.folder / "blobs").mkdir(exist_ok=True)
        self.key = asyncio.run(register_key(config, "bench", GivenRole.MANAGER))
        self.tender_key = asyncio.run(register_key(config, "tender", GivenRole.TENDER))
        environment = {**os.environ, "CHRONARCH_DATABASE": self.server.url, "CHRONARCH_BLOBS": str(config.blobs)}
        command = [sys.executable, "-m", "chronarch", "service", "run", "--port", str(self.port)]
        self.processes.append(subprocess.Popen(command, env=environment))
        self.http = httpx.Client(
            base_url=f"{self.address}/api", headers={"Authorization": f"Bearer {self.key}"}, timeout=300
        )
        _until(lambda: self.http.get("/shop").status_code == 200)
        if not made:
            print(self.http.post("/ledger/rebuild").raise_for_status().json()["text"], flush=True)
            (self.folder / "made").touch()
        threading.Thread(target=asyncio.run, args=(self.tend_until_away(),), daemon=True).start()
        _until(lambda: all(m["reachable"] for m in self.http.get("/machines").json()))

    def bare(self, body: bytes) -> None:
        (self.folder / "body").write_bytes(body)
        command = [sys.executable, "-c", BARE, str(self.bare_port), str(self.folder / "body")]
        self.processes.append(subprocess.Popen(command))
        _until(lambda: httpx.get(f"http://127.0.0.1:{self.bare_port}/api/machines").status_code == 200)

    async def tend_until_away(self) -> None:
        with suppress(websockets.ConnectionClosed):
            await self.tend()

    async def tend(self) -> None:
        """Be the machines' tender: each says once in ten seconds how it is."""
        address = f"ws://127.0.0.1:{self.port}/api/tender"
        async with websockets.connect(
            address, additional_headers={"Authorization": f"Bearer {self.tender_key}"}, max_size=None
        ) as socket:
            await socket.send(json.dumps({"kind": "hello", "tender": "tender", "epoch": "bench"}))
            await socket.recv()
            n = 0
            while True:
                n = n % self.size.machines + 1
                state = "building" if n % 5 else "uncleared"
                now = datetime.now(UTC).isoformat()
                heat = {"at": now, "nozzle": {"measured_c": 205.0, "asked_c": 205.0}}
                sample = {"kind": "sample", "machine": f"Machine {n:03d}", "state": state, "connected": True,
                          "reading": heat}  # fmt: skip
                await socket.send(json.dumps(sample))
                await asyncio.sleep(10 / self.size.machines)

    def close(self) -> None:
        for process in self.processes:
            process.terminate()
            process.wait(20)
        self.server.stop()


def _until(what: Callable[[], bool], within_s: float = 120.0) -> None:
    end = time.monotonic() + within_s
    while True:
        try:
            if what():
                return
        except httpx.TransportError:
            pass
        if time.monotonic() > end:
            raise SystemExit("the service did not come up")
        time.sleep(0.1)


def timed(ask: Callable[[], object], times: int = TIMES, before: Callable[[], object] = bool) -> tuple[float, float]:
    """Median and 99th percentile, in milliseconds; `before` is done before each and not timed."""
    ask()
    taken = []
    for _ in range(times):
        before()
        began = time.perf_counter()
        ask()
        taken.append((time.perf_counter() - began) * 1000)
    taken.sort()
    return statistics.median(taken), taken[min(len(taken) - 1, int(0.99 * len(taken)))]


def views(size: Size) -> list[tuple[str, str, str, float]]:
    """Name, path, a bare query of the same rows, the limit in ms."""
    now = datetime.now(UTC)
    year = f"from={(now - timedelta(days=364)):%Y-%m-%dT%H:%M:%SZ}"
    job = size.builds // 4 + 7
    return [
        ("machines", "/machines", "select * from machine", LIMIT_MS),
        ("plan", "/plan", "", LIMIT_MS),
        ("rounds", "/rounds", "", LIMIT_MS),
        ("queue", "/queue?limit=100", "select * from job order by id desc limit 100", LIMIT_MS),
        ("jobs", "/jobs?limit=100", "select * from job order by id desc limit 100", LIMIT_MS),
        ("jobs ended", "/jobs?ended=true&limit=100", "select * from job order by id desc limit 100", LIMIT_MS),
        ("a job", f"/jobs/{job}", f"select * from job where id = {job}", LIMIT_MS),
        ("why", f"/jobs/{job}/why", "", LIMIT_MS),
        ("orders", "/orders?limit=100", "select * from customer_order order by id desc limit 100", LIMIT_MS),
        ("orders ended", "/orders?ended=true&limit=100", "select * from customer_order limit 100", LIMIT_MS),
        ("files", "/files?limit=100", "select * from file order by id desc limit 100", LIMIT_MS),
        ("files found", "/files?limit=100&search=49&material=PETG", "select * from file limit 100", LIMIT_MS),
        ("parts", "/parts?limit=100", "select * from part limit 100", LIMIT_MS),
        ("builds", "/builds?limit=50", "select * from build order by id desc limit 50", LIMIT_MS),
        ("builds of one", "/builds?limit=50&machine=Machine%20007",
         "select * from build where machine_id = 7 order by id desc limit 50", LIMIT_MS),
        ("uncleared", "/builds?limit=50&uncleared=true",
         "select * from build where cleared_at is null order by id desc limit 50", LIMIT_MS),
        ("spools", "/spools", "select * from spool", LIMIT_MS),
        ("notices", "/notices", "select * from notice order by id desc limit 50", LIMIT_MS),
        ("ledger, 8 h", "/ledger", "", LIMIT_MS),
        ("health", "/health", "select 1", LIMIT_MS),
        ("year's use", f"/report/utilisation?{year}",
         "select machine_id, state, sum(timestampdiff(microsecond, begin_at, end_at)) from ledger group by 1, 2",
         YEAR_MS),
        ("year's gaps", f"/report/turnaround?{year}", "select machine_id, started_at, ended_at from build", YEAR_MS),
    ]  # fmt: skip


async def rate(port: int, key: str, connections: int = 4) -> float:
    """Requests a second for the machines, by raw sockets."""
    ask = f"GET /api/machines HTTP/1.1\r\nHost: bench\r\nAuthorization: Bearer {key}\r\n\r\n".encode()
    done, end = 0, time.monotonic() + RATE_FOR_S

    async def one() -> None:
        nonlocal done
        reader, writer = await asyncio.open_connection("127.0.0.1", port, limit=1 << 24)
        while time.monotonic() < end:
            writer.write(ask)
            head = (await reader.readuntil(b"\r\n\r\n")).lower()
            await reader.readexactly(int(head.split(b"content-length: ")[1].split(b"\r\n")[0]))
            done += 1
        writer.close()

    await asyncio.gather(*(one() for _ in range(connections)))
    return done / RATE_FOR_S


@asynccontextmanager
async def listener(shop: Shop, seen: list[float]) -> AsyncIterator[None]:
    """Listens to the live stream, and notes when each folder's change is told."""
    reader, writer = await asyncio.open_connection("127.0.0.1", shop.port, limit=1 << 24)
    ask = f"GET /api/live HTTP/1.1\r\nHost: bench\r\nAuthorization: Bearer {shop.key}\r\n\r\n"
    writer.write(ask.encode())

    async def listen() -> None:
        while line := await reader.readline():
            if b'"files"' in line:
                seen.append(time.perf_counter())

    task = asyncio.create_task(listen())
    yield
    task.cancel()
    writer.close()


async def seen_by_all(shop: Shop) -> list[float]:
    """Milliseconds from the answer to a change until each listener has heard of it."""
    heard: list[list[float]] = [[] for _ in range(LISTENERS)]
    held = [listener(shop, seen) for seen in heard]
    for one in held:
        await one.__aenter__()
    await asyncio.sleep(5)
    taken: list[float] = []
    async with httpx.AsyncClient(base_url=f"{shop.address}/api", headers=shop.http.headers, timeout=60) as http:
        for n in range(CHANGES):
            before = [len(seen) for seen in heard]
            began = time.perf_counter()
            (await http.patch(f"/files/{n + 1}", json={"notes": f"{began}"})).raise_for_status()
            while any(len(seen) == b for seen, b in zip(heard, before, strict=True)):
                await asyncio.sleep(0.005)
                if time.perf_counter() - began > 30:
                    raise SystemExit("a listener was not told")
            taken += [(seen[b] - began) * 1000 for seen, b in zip(heard, before, strict=True)]
            await asyncio.sleep(0.2)
    for one in held:
        await one.__aexit__(None, None, None)
    return sorted(taken)


def measure(shop: Shop) -> None:
    def change() -> None:
        shop.http.patch("/files/1", json={"notes": str(time.perf_counter())}).raise_for_status()

    print(f"{'':14} {'anew':>9} {'99th':>9} {'kept':>9} {'bytes':>10} {'bare query':>11} {'ratio':>6} stolen  limit")
    with shop.server.connect("chronarch") as connection, connection.cursor() as cursor:
        for name, path, query, limit in views(shop.size):
            mark = "&" if "?" in path else "?"

            def anew(path: str = path, mark: str = mark) -> None:
                shop.http.get(f"{path}{mark}other={time.perf_counter()}").raise_for_status()

            stolen = Stolen()
            middle, worst = timed(anew, before=change)
            taken_away = stolen.share()
            kept, _ = timed(lambda path=path: shop.http.get(path).raise_for_status())
            size = len(shop.http.get(path).content)
            bare = f"{'':>11} {'':>6}"
            if query:
                q, _ = timed(lambda query=query: (cursor.execute(query), cursor.fetchall()), 5)
                bare = f"{q:8.1f} ms {middle / q:6.1f}"
            told = "" if worst <= limit else "  OVER"
            print(
                f"{name:14} {middle:6.0f} ms {worst:6.0f} ms {kept:6.1f} ms {size:10d} {bare} {taken_away:6.0%}"
                f"  {limit:.0f} ms{told}",
                flush=True,
            )
    shop.bare(shop.http.get("/machines").content)
    stolen = Stolen()
    pairs = [[asyncio.run(rate(port, shop.key)) for port in (shop.port, shop.bare_port)] for _ in range(TURNS)]
    mine, bare_rate = (statistics.median(each) for each in zip(*pairs, strict=True))
    ratio = statistics.median(a / b for a, b in pairs)
    print(f"GET /api/machines: {mine:.0f}/s, a bare application {bare_rate:.0f}/s, ratio {ratio:.2f} (limit {SHARE}),"
          f" {stolen.share():.0%} stolen")  # fmt: skip
    stolen = Stolen()
    taken = asyncio.run(seen_by_all(shop))
    at = taken[int(0.99 * len(taken))]
    print(f"a change seen by {LISTENERS} listeners: median {statistics.median(taken):.0f} ms, 99th {at:.0f} ms"
          f" (limit {SEEN_MS:.0f} ms), {stolen.share():.0%} stolen")  # fmt: skip
    print("event loop:", json.dumps(shop.http.get("/health").json()["held"]))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--small", action="store_true", help="A tenth of the machines, and less of everything else.")
    parser.add_argument("--keep", type=Path, help="Keep the shop in this folder, or use the one that is there.")
    wish = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="chronarch-reads-") as own:
        folder = wish.keep or Path(own)
        folder.mkdir(exist_ok=True)
        shop = Shop(folder, SMALL if wish.small else Size())
        try:
            shop.open()
            measure(shop)
        finally:
            shop.close()


if __name__ == "__main__":
    main()
