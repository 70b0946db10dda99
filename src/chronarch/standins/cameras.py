"""The stand-ins' cameras over HTTP and as a named pipe: snapshots, streams, a room, sign-in, and what goes wrong."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import io
import os
import re
from collections.abc import AsyncIterator, Callable
from pathlib import Path

from fastapi import FastAPI, HTTPException, Request, Response
from fastapi.responses import RedirectResponse, StreamingResponse
from PIL import Image, ImageDraw

from chronarch.standins.machine import MachineStandin
from chronarch.standins.picture import View, as_jpeg

FAULTY = {
    "hangs": "takes the request and never answers",
    "hangs-midway": "sends half a picture and no more",
    "floods": "sends 50 MB",
    "garbage": "sends a page of text that it calls a picture",
    "page": "sends a page of text",
    "damaged": "sends a picture that is cut short",
    "redirects": "sends on to itself, for ever",
    "endless-header": "sends a part whose head has no end",
    "slow": "gives one picture in 8 s",
    "fails": "answers 503",
}
"""What the fault `camera` can bring about."""
REALM, NONCE = "camera", "6d2f1c0a"
PIPE_FPS = 8.0
BOUNDARY = "picture"


def add_cameras(app: FastAPI, machines: dict[str, MachineStandin], find: Callable[[str], MachineStandin]) -> None:
    """Give the application the routes of all cameras."""

    async def answer(request: Request, name: str, view: View, stamp: bool) -> Response:
        machine = find(name)
        if (refused := _refused(request, machine)) is not None:
            return refused
        machine.camera_requests += 1
        fault = machine.camera_fault
        if fault == "hangs":
            await asyncio.sleep(3600)
        if fault == "slow":
            await asyncio.sleep(8)
        if fault == "redirects":
            return RedirectResponse(request.url)
        if fault == "fails":
            raise HTTPException(503, "out of order")
        if fault == "page":
            return Response("<html>sign in</html>", media_type="text/html")
        if fault == "floods":
            return Response(b"\xff\xd8\xff" + bytes(50_000_000), media_type="image/jpeg")
        if fault == "garbage":
            return Response(b"<html>not a picture</html>", media_type="image/jpeg")
        jpeg = machine.frame(view, stamp)
        if fault == "damaged":
            jpeg = jpeg[: len(jpeg) // 2]
        if fault == "hangs-midway":
            return StreamingResponse(_half(jpeg), media_type="image/jpeg", headers={"Content-Length": str(len(jpeg))})
        return Response(jpeg, media_type="image/jpeg", headers={"Cache-Control": "no-store"})

    @app.get("/machines/{name}/frame.jpg")
    async def frame(request: Request, name: str, stamp: bool = False) -> Response:
        return await answer(request, name, "front", stamp)

    @app.get("/machines/{name}/side.jpg")
    async def side(request: Request, name: str, stamp: bool = False) -> Response:
        return await answer(request, name, "side", stamp)

    @app.get("/machines/{name}/stream.mjpg")
    async def stream(request: Request, name: str, fps: float = 10.0, stamp: bool = False) -> Response:
        machine = find(name)
        if (refused := _refused(request, machine)) is not None:
            return refused
        machine.camera_requests += 1
        kind = f"multipart/x-mixed-replace; boundary={BOUNDARY}"
        return StreamingResponse(_parts(machine, max(0.1, min(fps, 60)), stamp), media_type=kind)

    @app.get("/machines/{name}/front.png")
    async def front(name: str) -> Response:
        """What the camera in front would see, for whoever tests: without sign-in and faults."""
        machine, out = find(name), io.BytesIO()
        machine.picture.seen(machine.motion.position).save(out, "PNG")
        return Response(out.getvalue(), media_type="image/png")

    @app.get("/rooms/{name}/frame.jpg")
    async def room(name: str) -> Response:
        return Response(as_jpeg(_room(name, list(machines.values()))), media_type="image/jpeg")


async def _half(jpeg: bytes) -> AsyncIterator[bytes]:
    yield jpeg[: len(jpeg) // 2]
    await asyncio.sleep(3600)


async def _parts(machine: MachineStandin, fps: float, stamp: bool) -> AsyncIterator[bytes]:
    machine.camera_streams += 1
    try:
        while True:
            jpeg, fault = machine.frame("front", stamp), machine.camera_fault
            head = f"--{BOUNDARY}\r\nContent-Type: image/jpeg\r\nContent-Length: {len(jpeg)}\r\n"
            match fault:
                case "hangs":
                    await asyncio.sleep(3600)
                case "hangs-midway":
                    yield head.encode() + b"\r\n" + jpeg[: len(jpeg) // 2]
                    await asyncio.sleep(3600)
                case "floods":
                    yield f"--{BOUNDARY}\r\n\r\n".encode()
                    for _ in range(50):
                        yield bytes(1_000_000)
                case "garbage" | "page":
                    yield f"--{BOUNDARY}\r\nContent-Length: 6\r\n\r\nnopeno\r\n".encode()
                case "endless-header":
                    yield f"--{BOUNDARY}\r\n".encode()
                    while True:
                        yield b"X-More: " + b"y" * 1000 + b"\r\n"
                        await asyncio.sleep(0)
                case "fails":
                    return
                case "damaged":
                    cut = jpeg[: len(jpeg) // 2]
                    yield f"--{BOUNDARY}\r\nContent-Length: {len(cut)}\r\n\r\n".encode() + cut + b"\r\n"
                case _:
                    yield head.encode() + b"\r\n" + jpeg + b"\r\n"
            await asyncio.sleep(8 if fault == "slow" else 1 / fps)
    finally:
        machine.camera_streams -= 1


def _refused(request: Request, machine: MachineStandin) -> Response | None:
    """Whoever does not sign in as the camera wants it."""
    setup = machine.setup
    if not setup.camera_login:
        return None
    login, _, password = setup.camera_login.partition(":")
    shown = request.headers.get("authorization", "")
    if setup.camera_digest:
        said = dict(re.findall(r'(\w+)="?([^",]+)"?', shown))

        def md5(*parts: str) -> str:
            return hashlib.md5(":".join(parts).encode()).hexdigest()

        first, second = md5(login, REALM, password), md5(request.method, said.get("uri", ""))
        wanted = md5(first, NONCE, said.get("nc", ""), said.get("cnonce", ""), said.get("qop", ""), second)
        good = shown.lower().startswith("digest") and said.get("response") == wanted
        challenge = f'Digest realm="{REALM}", nonce="{NONCE}", qop="auth", algorithm=MD5'
    else:
        good = shown == "Basic " + base64.b64encode(setup.camera_login.encode()).decode()
        challenge = f'Basic realm="{REALM}"'
    return None if good else Response("sign in", 401, headers={"WWW-Authenticate": challenge})


def _room(name: str, machines: list[MachineStandin]) -> Image.Image:
    """A room with its machines on shelves, each with what it has on its bed."""
    image = Image.new("RGB", (960, 540), (58, 56, 52))
    draw = ImageDraw.Draw(image)
    draw.rectangle([0, 440, 960, 540], fill=(92, 84, 72))
    across = 4 if len(machines) <= 12 else 8
    wide = 880 // across
    high = wide * 3 // 4
    for n, machine in enumerate(machines[: 4 * across]):
        x, y = 44 + n % across * wide, 34 + n // across * (high - 12)
        draw.rectangle([x - 6, y + high - 26, x + wide - 6, y + high - 20], fill=(120, 96, 66))
        small = machine.picture.seen(machine.motion.position).resize((wide - 28, high - 40))
        image.paste(small, (x + 7, y + 6))
        draw.rectangle([x + 6, y + 5, x + wide - 21, y + high - 34], outline=(150, 148, 142), width=2)
    draw.text((14, 518), name, fill=(222, 216, 204))
    return image


async def write_pipe(machine: MachineStandin) -> None:
    """A camera that is plugged in: pictures into its named pipe for as long as somebody reads."""
    path = Path(machine.setup.local_camera)
    path.parent.mkdir(parents=True, exist_ok=True)
    path.unlink(missing_ok=True)
    os.mkfifo(path)
    while True:
        if machine.camera_fault == "fails":
            await asyncio.sleep(0.1)
            continue
        try:
            pipe = os.open(path, os.O_WRONLY | os.O_NONBLOCK)
        except OSError:  # nobody reads
            await asyncio.sleep(0.1)
            continue
        try:
            os.set_blocking(pipe, True)
            while machine.camera_fault != "fails":
                if machine.camera_fault != "hangs":
                    await asyncio.to_thread(_write_whole, pipe, machine.frame())
                await asyncio.sleep(1 / PIPE_FPS)
        except OSError:
            pass
        finally:
            os.close(pipe)


def _write_whole(pipe: int, data: bytes) -> None:
    left = memoryview(data)
    while left:
        left = left[os.write(pipe, left) :]
