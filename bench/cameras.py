"""What cameras cost, beside a limit taken in the same run. Run it with `make bench`.

1.  Sixty cameras of 1280x720 at one tender, all looked at by somebody at a frame a second, twenty of them by three
    people at five: the 99th percentile of the lines of twelve machines that are fed beside it, against the same without
    cameras; the processor that the cameras take; frames and bytes that arrive, and those that do not.
2.  From the shutter to the page: the time that a camera stamps into its picture, read in a browser.
3.  Sixty pictures on one page: how smooth it stays.

The cameras themselves and those who look run at low priority: they are other computers. The service and the tender run
as they do in a shop.
"""

from __future__ import annotations

import asyncio
import contextlib
import io
import multiprocessing
import os
import statistics
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from shutil import which
from typing import Any

import numpy as np
import uvloop
from PIL import Image
from playwright.sync_api import expect, sync_playwright

from bench.feeding import Machines, many, write_program
from bench.stolen import Stolen
from chronarch.client import AsyncClient, requests
from chronarch.tender.priority import feed_first
from chronarch.wire.watching.cameras import NewCamera
from chronarch.wire.watching.looking import Wish
from chronarch.wire.watching.settings import WatchingUpdate
from tests.support.browser import CHROMIUM
from tests.support.world import PASSWORD, PERSON, World, close_all, eventually

CAMERAS, LOOKED_AT, PEOPLE, RATE = 60, 20, 3, 5.0
LINKS, LINES_PER_S, LINES = 12, 200, 20_000
ROUNDS = 3
OTHERS_NICE = 12
WANTED = LOOKED_AT * PEOPLE * RATE + CAMERAS
MOST_RATIO, MOST_MS, SEEN = 1.2, 500, 60
SMOOTH_MS = 50


def _pictures() -> list[bytes]:
    """A few JPEGs of 1280x720 with as much in them as a camera's have."""
    made = []
    for n in range(8):
        noise = np.random.default_rng(n).normal(0, 14, (720, 1280, 3))
        slope = np.linspace(30, 200, 1280)[None, :, None] + np.linspace(-20, 20, 720)[:, None, None]
        out = io.BytesIO()
        Image.fromarray(np.clip(slope + noise, 0, 255).astype("uint8")).save(out, "JPEG", quality=60)
        made.append(out.getvalue())
    return made


def _cameras(pipe: Any) -> None:
    """The cameras: any path gives the next picture."""
    os.nice(OTHERS_NICE)
    pictures, count = _pictures(), 0

    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        nonlocal count
        with contextlib.suppress(OSError, asyncio.IncompleteReadError, asyncio.CancelledError):
            while await reader.readuntil(b"\r\n\r\n"):
                picture = pictures[count % len(pictures)]
                count += 1
                head = f"HTTP/1.1 200 OK\r\nContent-Type: image/jpeg\r\nContent-Length: {len(picture)}\r\n\r\n"
                writer.write(head.encode() + picture)
                await writer.drain()
        writer.close()

    async def serve() -> None:
        server = await asyncio.start_server(answer, "127.0.0.1", 0)
        pipe.send((server.sockets[0].getsockname()[1], statistics.mean(map(len, pictures))))
        await asyncio.get_running_loop().run_in_executor(None, pipe.recv)

    asyncio.run(serve())


def _lookers(address: str, key: str, pipe: Any) -> None:
    """Those who look; says how many frames and bytes came, each time it is asked."""
    os.nice(OTHERS_NICE)
    came = [0, 0]

    async def look(wishes: dict[str, Wish]) -> None:
        async with AsyncClient(address, key) as client:
            async for frame in client.look(wishes):
                came[0] += 1
                came[1] += len(frame.jpeg)

    async def go() -> None:
        closely = {f"c{n}": Wish(frames_per_s=RATE) for n in range(LOOKED_AT)}
        all_of_them = {f"c{n}": Wish(frames_per_s=1.0) for n in range(CAMERAS)}
        tasks = [asyncio.create_task(look(w)) for w in (*[closely] * PEOPLE, all_of_them)]
        loop = asyncio.get_running_loop()
        while await loop.run_in_executor(None, pipe.recv) != "end":
            pipe.send(tuple(came))
        for task in tasks:
            task.cancel()

    asyncio.run(go())


def a_camera(number: int, port: int) -> NewCamera:
    return NewCamera(name=f"c{number}", tender="tender", address=f"http://127.0.0.1:{port}/{number}.jpg")


@contextlib.contextmanager
def other(work: Any, *about: Any) -> Iterator[Any]:
    """A process of its own, told to end after the block."""
    context = multiprocessing.get_context("spawn")
    pipe, theirs = context.Pipe()
    process = context.Process(target=work, args=(*about, theirs), daemon=True)
    process.start()
    try:
        yield pipe
    finally:
        pipe.send("end")
        process.join(5)
        process.kill()


def fed(folder: Path, path: Path) -> float:
    """The 99th percentile of how late a line comes, ms."""
    with Machines(1 / LINES_PER_S, LINKS) as machines:
        feed_first()
        try:
            return uvloop.run(many(folder, path, machines))["p99"]
        finally:
            os.setpriority(os.PRIO_PROCESS, 0, 0)


def beside_feeding(w: World, folder: Path) -> None:
    path = write_program(folder, LINES)
    w.client.do(requests.change_watching(WatchingUpdate(camera_budget=1.5)))
    with other(_cameras) as cameras:
        port, size = cameras.recv()
        pairs, shares, used, rates = [], [], [], []
        stolen = Stolen()
        for n in range(ROUNDS):
            quiet = fed(folder / f"quiet{n}", path)
            for k in range(CAMERAS):
                w.client.do(requests.add_camera(a_camera(k, port)))
            with other(_lookers, w.address, w.read_key) as lookers:
                time.sleep(6)
                before, began = _count(lookers), time.monotonic()
                busy = fed(folder / f"busy{n}", path)
                after, took_s = _count(lookers), time.monotonic() - began
                (work,) = w.client.do(requests.camera_work())
            for k in range(CAMERAS):
                w.client.do(requests.remove_camera(f"c{k}"))
            pairs.append((busy / quiet, quiet, busy))
            shares.append((after[0] - before[0]) / took_s / WANTED)
            rates.append((after[1] - before[1]) / took_s / 1e6)
            used.append(work.used)
        ratio, quiet, busy = sorted(pairs)[len(pairs) // 2]
        over = "" if ratio <= MOST_RATIO else "  OVER"
        print(
            f"lines       {LINKS} machines at {LINES_PER_S} lines/s: 99th percentile {quiet:.2f} -> {busy:.2f} ms, "
            f"x {ratio:.2f} (at most {MOST_RATIO}; median of {ROUNDS}: "
            f"{', '.join(f'{p[0]:.2f}' for p in pairs)}){over}, {stolen.share():.0%} stolen"
        )
        print(
            f"cameras     {CAMERAS} of 1280x720, {size / 1e3:.0f} kB a frame: {statistics.median(used):.0%} of a core; "
            f"{statistics.median(shares):.0%} of {WANTED:.0f} frames/s arrive, "
            f"{1 - statistics.median(shares):.0%} dropped; {statistics.median(rates):.1f} MB/s to those who look"
        )


def _count(lookers: Any) -> tuple[int, int]:
    lookers.send("count")
    came: tuple[int, int] = lookers.recv()
    return came


def to_the_page(w: World) -> None:
    """How long from the shutter until a frame is drawn on the page, ms."""
    seen = """async count => {
        const canvas = document.querySelector("canvas[role=img]"), late = [];
        let before = "", seen = 0;
        while (late.length < count) {
            await new Promise(requestAnimationFrame);
            if (canvas.dataset.takenAt === before || !canvas.dataset.takenAt) continue;
            before = canvas.dataset.takenAt;
            if (++seen <= 3) continue; // what was known before anybody looked
            const pixels = canvas.getContext("2d").getImageData(0, 0, canvas.width, 12).data;
            let ms = 0;
            for (let n = 0; n < 40; n++) ms = ms * 2 + (pixels[4 * (6 * canvas.width + n * 12 + 6)] < 128 ? 1 : 0);
            late.push(Date.now() % 2 ** 40 - ms);
        }
        return late;
    }"""
    for name, path in (("a stream", "stream.mjpg?fps=25&stamp=1"), ("a snapshot", "frame.jpg?stamp=1")):
        w.client.do(requests.remove_camera(w.client.do(requests.cameras())[0].name))
        w.add_camera("Anchor", path=path)
        with sync_playwright() as play:
            found = which("chromium-headless-shell") or which("chromium")
            browser = play.chromium.launch(executable_path=found, args=CHROMIUM)
            context = browser.new_context()
            context.request.post(f"{w.address}/api/sign-in", data={"login": PERSON, "password": PASSWORD})
            page = context.new_page()
            page.goto(f"{w.address}/machines/Anchor")
            page.wait_for_selector("canvas[data-taken-at]")
            late = sorted(page.evaluate(seen, SEEN))
            browser.close()
        at = late[int(0.99 * len(late))]
        told = "" if at <= MOST_MS else "  OVER"
        print(
            f"to the page {name}: {statistics.median(late):.0f} ms from the shutter in the middle, {at:.0f} ms at the "
            f"99th of {SEEN} (at most {MOST_MS}){told}"
        )


def many_on_a_page(w: World) -> None:
    """How smooth a page with all of them stays: the time from one picture of the browser to the next, ms."""
    steps = """async seconds => {
        const steps = [], seen = new Set(), began = performance.now();
        let before = began, changes = 0;
        while (before - began < seconds * 1000) {
            await new Promise(requestAnimationFrame);
            const now = performance.now();
            steps.push(now - before);
            before = now;
            for (const c of document.querySelectorAll("canvas[role=img]")) {
                const mark = c.getAttribute("aria-label") + c.dataset.takenAt;
                if (c.dataset.takenAt && !seen.has(mark)) { seen.add(mark); changes++; }
            }
        }
        return [steps, changes / seconds];
    }"""
    with other(_cameras) as cameras, sync_playwright() as play:
        port, _ = cameras.recv()
        for k in range(CAMERAS):
            w.client.do(requests.add_camera(a_camera(k, port)))
        found = which("chromium-headless-shell") or which("chromium")
        browser = play.chromium.launch(executable_path=found, args=CHROMIUM)
        context = browser.new_context(viewport={"width": 1920, "height": 1080})
        context.request.post(f"{w.address}/api/sign-in", data={"login": PERSON, "password": PASSWORD})
        page = context.new_page()
        page.goto(f"{w.address}/cameras")
        expect(page.locator("canvas[data-taken-at]")).to_have_count(CAMERAS)
        took, rate = page.evaluate(steps, 10)
        browser.close()
    for k in range(CAMERAS):
        w.client.do(requests.remove_camera(f"c{k}"))
    took.sort()
    at = took[int(0.99 * len(took))]
    over = "" if at <= SMOOTH_MS else "  OVER"
    print(
        f"on a page   {CAMERAS} pictures, {rate:.0f} frames/s: {statistics.median(took):.0f} ms from one picture of "
        f"the browser to the next in the middle, {at:.0f} at the 99th percentile (at most {SMOOTH_MS}){over}"
    )


def main() -> None:
    w = World(("Anchor",), rate=1.0, cameras=True)
    try:
        w.start()
        eventually(lambda: w.client.do(requests.camera_work()), "the cameras are connected")
        to_the_page(w)
        w.client.do(requests.remove_camera("Anchor"))
        many_on_a_page(w)
        with tempfile.TemporaryDirectory(prefix="chronarch-cameras-") as name:
            beside_feeding(w, Path(name))
    finally:
        w.close()
        close_all()


if __name__ == "__main__":
    main()
