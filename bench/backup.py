"""What backups take, each beside a limit of the same run, and whether builds notice one.

1.  The files of the store, for the first time, beside nothing but sealing the same bytes and writing them.
2.  The records, beside nothing but `mariadb-dump`.
3.  A second backup, when little is new; trying one; restoring it.
4.  Twenty links at 200 lines/s each, without a backup and while one after another is taken.

    python -m bench.backup [--mb 600] [--builds 50000]
"""

from __future__ import annotations

import asyncio
import hashlib
import json
import os
import random
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

import click
import uvloop
from sqlalchemy import select

from bench.feeding import LINES, RATE, Machines, many, write_program
from bench.large_shop import Size, fill
from bench.stolen import Stolen
from chronarch.core.system.keeping import KeepRule
from chronarch.core.system.sealing import ScryptCost, key_from, seal
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.records.ledger.intervals import rebuild_days
from chronarch.records.server import PrivateServer
from chronarch.service.system.backup import database_copy
from chronarch.service.system.backup.archive import CHECK, Head, Sealing
from chronarch.service.system.backup.places import place_at
from chronarch.service.system.backup.restoring import Target, restore
from chronarch.service.system.backup.taking import begin_place, open_archive
from chronarch.service.system.backup.trying import newest_of, open_to_read
from chronarch.service.system.backup.work_messages import Keys, PlaceAccess, TakeOrder, TryOrder

LINKS = 20
FILE, MADE_UP = 3_000_000, 500
"""Bytes; and files that the records name and nobody has, which a trial finds missing."""
SHOP = "b" * 32
KEY = key_from("bench bench bench", b"s" * 16, ScryptCost())
KEYS = Keys(shared=KEY.secret.hex())


def fill_store(blobs: Path, mb: int) -> int:
    """Films of noise, which nothing packs; bytes."""
    rand, size = random.Random(1), 0
    while size < mb * 1_000_000:
        data = rand.randbytes(FILE)
        sha256 = hashlib.sha256(data).hexdigest()
        path = blobs / "films" / sha256[:2] / sha256
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        size += FILE
    return size


async def add_up_days(database: str) -> None:
    """The sums of each day, which a trial proves."""
    engine = make_engine(database)
    async with make_sessions(engine)() as db:
        for machine in (await db.execute(select(t.Machine.id))).scalars().all():
            await rebuild_days(db, machine)
        await db.commit()
    await engine.dispose()


def bare_copy(blobs: Path, into: Path) -> None:
    """Seal and write, one file after another."""
    for path in (blobs / "films").rglob("*"):
        if path.is_file():
            with path.open("rb") as source, (into / path.name).open("wb") as out:
                for piece in seal(iter(lambda: source.read(1 << 20), b""), KEY, path.name):
                    out.write(piece)
                os.fsync(out.fileno())


def order(place: Path, blobs: Path, database: str) -> TakeOrder:
    """A backup into a folder, which is made a place for backups."""
    place.mkdir(exist_ok=True)
    sealing = Sealing(b"s" * 16, ScryptCost(), b"".join(seal([b"chronarch"], KEY, CHECK)))
    begin_place(place_at(str(place), "", ""), Head(SHOP, "bench", datetime.now(UTC), sealing))
    return TakeOrder(
        place=PlaceAccess(address=str(place)), keys=KEYS, database=database, blobs=blobs,
        secrets_key=blobs / "secrets.key", shop=SHOP, name_key="00" * 32, version="bench", at=datetime.now(UTC),
        shop_at=datetime.now(UTC), zone="UTC", rule=KeepRule(7, 4, 12),
    )  # fmt: skip


def work(what: TakeOrder | TryOrder) -> float:
    """Have the service's own process do it; how long that took, s."""
    began = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "chronarch.service.system.backup.work"],
        input=what.model_dump_json() + "\n", capture_output=True, text=True, check=True,
    )  # fmt: skip
    last = json.loads(done.stdout.splitlines()[-1])
    if last["kind"] == "failed" or last.get("found", MADE_UP) != MADE_UP:
        raise SystemExit(f"bench.backup: {last.get('text') or last['faults']}")
    return time.perf_counter() - began


@contextmanager
def backups_meanwhile(folder: Path, blobs: Path, database: str) -> Iterator[list[float]]:
    """One whole backup after another, in a process each, as the service takes them."""
    stop, took = threading.Event(), []

    def go() -> None:
        while not stop.is_set():
            took.append(work(order(folder / f"meanwhile-{len(took)}", blobs, database)))

    thread = threading.Thread(target=go)
    thread.start()
    try:
        yield took
    finally:
        stop.set()
        thread.join()


def sizes(folder: Path, blobs: Path, server: PrivateServer, bytes_: int) -> None:
    """The first three figures."""
    stolen = Stolen()
    bare = folder / "bare"
    bare.mkdir()
    os.sync()
    began = time.perf_counter()
    bare_copy(blobs, bare)
    copied_s = time.perf_counter() - began
    began = time.perf_counter()
    dumped = sum(len(piece) for piece in database_copy.dump(server.url))
    dumped_s = time.perf_counter() - began
    taking = order(folder / "place", blobs, server.url)
    os.sync()
    first_s, second_s = work(taking), work(taking)
    files_s = max(0.001, first_s - second_s)
    print(
        f"files       {bytes_ / 1e6:.0f} MB in {files_s:.1f} s, {bytes_ / 1e6 / files_s:.0f} MB/s; sealing and writing "
        f"alone {bytes_ / 1e6 / copied_s:.0f} MB/s: ratio {copied_s / files_s:.2f}"
    )
    print(
        f"records     a backup with nothing new {second_s:.1f} s; dumping {dumped / 1e6:.0f} MB alone {dumped_s:.1f} "
        f"s: ratio {second_s / dumped_s:.2f}"
    )
    trial = TryOrder(place=taking.place, keys=KEYS, shop=SHOP, scratch=folder / "trial")
    tried_s = work(trial)
    target = Target(server.another("restored"), folder / "restored", folder / "restored" / "secrets.key")
    target.blobs.mkdir()
    archive = open_to_read(trial)
    open_archive(place_at(taking.place.address, "", ""), SHOP, KEYS)
    began = time.perf_counter()
    restore(archive, newest_of(archive, ""), target, False, lambda _: None)
    print(f"the way back a trial {tried_s:.1f} s, a restore {time.perf_counter() - began:.1f} s")
    print(f"            {stolen.share():.0%} of the processor was the host's meanwhile")


def builds(folder: Path, blobs: Path, server: PrivateServer) -> None:
    """The fourth."""
    path = write_program(folder, LINES)
    stolen = Stolen()
    with Machines(1 / RATE, LINKS) as machines:
        alone = uvloop.run(many(folder / "alone", path, machines))
        with backups_meanwhile(folder, blobs, server.url) as took:
            within = uvloop.run(many(folder / "within", path, machines))
    for name, one in (("alone", alone), (f"during {len(took)} backups", within)):
        print(
            f"{LINKS} links    {name}: {one['rate']:.0f} lines/s each, late by {one['p50']:.2f} ms in the middle, "
            f"{one['p99']:.2f} ms at the 99th percentile, {one['worst']:.1f} ms at worst"
        )
    print(
        f"            rate {within['rate'] / alone['rate']:.3f} of that alone; "
        f"{stolen.share():.0%} of the processor was the host's"
    )


@click.command()
@click.option("--mb", default=600, help="So many MB of files.")
@click.option("--builds", "count", default=50_000, help="So many builds in the records.")
def main(mb: int, count: int) -> None:
    with tempfile.TemporaryDirectory(prefix="chronarch-bench-") as name:
        folder = Path(name)
        blobs = folder / "blobs"
        server = PrivateServer(folder / "server")
        server.start()
        try:
            migrate(server.url)
            with server.connect("chronarch") as connection, connection.cursor() as cursor:
                connection.autocommit(True)
                fill(
                    cursor,
                    Size(machines=100, files=MADE_UP, waiting=200, builds=count),
                    datetime.now(UTC).replace(tzinfo=None),
                )
            asyncio.run(add_up_days(server.url))
            bytes_ = fill_store(blobs, mb)
            sizes(folder, blobs, server, bytes_)
            builds(folder, blobs, server)
        finally:
            server.stop()


if __name__ == "__main__":
    main()
