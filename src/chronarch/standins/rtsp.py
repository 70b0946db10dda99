"""The stand-ins' cameras over RTSP (RFC 2326): JPEG over RTP (RFC 2435), interleaved with the connection."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import itertools
import re
import struct
from collections.abc import Callable, Iterator

from chronarch.standins.machine import MachineStandin

FPS, CLOCK_HZ, MOST_PAYLOAD = 10.0, 90_000, 1400
DESCRIPTION = "\r\n".join(
    ("v=0", "o=- 1 1 IN IP4 127.0.0.1", "s=camera", "t=0 0", "m=video 0 RTP/AVP 26", "a=control:track", "")
)
Find = Callable[[str], MachineStandin | None]


class RtspServer:
    """rtsp://127.0.0.1:PORT/machines/NAME."""

    def __init__(self, port: int, find: Find) -> None:
        self._port, self._find = port, find
        self._server: asyncio.Server | None = None

    async def start(self) -> None:
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", self._port)

    async def stop(self) -> None:
        if self._server is not None:
            self._server.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        playing: asyncio.Task[None] | None = None
        try:
            while request := await _request(reader):
                method, url, heads = request
                machine = self._machine(url)
                status, more, body = self._answer(method, url, heads, machine)
                lines = [f"RTSP/1.0 {status}", f"CSeq: {heads.get('cseq', '0')}", *more]
                if body:
                    lines += ["Content-Type: application/sdp", f"Content-Length: {len(body)}"]
                writer.write("\r\n".join([*lines, "", body]).encode())
                await writer.drain()
                if method == "PLAY" and status.startswith("200") and machine is not None and playing is None:
                    playing = asyncio.create_task(_play(machine, writer))
                if method == "TEARDOWN":
                    break
        except (OSError, asyncio.IncompleteReadError, ValueError):
            pass
        finally:
            if playing is not None:
                playing.cancel()
            writer.close()

    def _machine(self, url: str) -> MachineStandin | None:
        found = re.search(r"/machines/([^/?]+)", url)
        return self._find(found[1]) if found else None

    @staticmethod
    def _answer(
        method: str, url: str, heads: dict[str, str], machine: MachineStandin | None
    ) -> tuple[str, list[str], str]:
        if method == "OPTIONS":
            return "200 OK", ["Public: OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN"], ""
        if machine is None:
            return "404 Not Found", [], ""
        login = machine.setup.camera_login
        if login and heads.get("authorization") != "Basic " + base64.b64encode(login.encode()).decode():
            return "401 Unauthorized", ['WWW-Authenticate: Basic realm="camera"'], ""
        match method:
            case "DESCRIBE":
                return "200 OK", [f"Content-Base: {url}/"], DESCRIPTION
            case "SETUP":
                if "interleaved" not in heads.get("transport", ""):
                    return "461 Unsupported Transport", [], ""
                return "200 OK", ["Transport: RTP/AVP/TCP;unicast;interleaved=0-1", "Session: 7"], ""
            case "PLAY" | "TEARDOWN" | "GET_PARAMETER":
                return "200 OK", ["Session: 7"], ""
        return "405 Method Not Allowed", [], ""


async def _request(reader: asyncio.StreamReader) -> tuple[str, str, dict[str, str]] | None:
    """The next request; what a player reports meanwhile (RTCP) is passed over."""
    while True:
        first = await reader.read(1)
        if not first:
            return None
        if first == b"$":
            _, length = struct.unpack(">BH", await reader.readexactly(3))
            await reader.readexactly(length)
            continue
        text = (first + await reader.readuntil(b"\r\n\r\n")).decode()
        start, *lines = text.strip().split("\r\n")
        method, url, _ = start.split(" ", 2)
        heads = {name.strip().lower(): value.strip() for name, _, value in (line.partition(":") for line in lines)}
        return method, url, heads


async def _play(machine: MachineStandin, writer: asyncio.StreamWriter) -> None:
    machine.camera_streams += 1
    sequence = itertools.count()
    began = asyncio.get_running_loop().time()
    with contextlib.suppress(OSError):
        try:
            while True:
                if machine.camera_fault not in ("hangs", "hangs-midway"):
                    stamp = int((asyncio.get_running_loop().time() - began) * CLOCK_HZ) & 0xFFFFFFFF
                    for packet in _packets(machine.frame(), stamp, sequence):
                        writer.write(b"$\0" + struct.pack(">H", len(packet)) + packet)
                    await writer.drain()
                await asyncio.sleep(8 if machine.camera_fault == "slow" else 1 / FPS)
        finally:
            machine.camera_streams -= 1


def _packets(jpeg: bytes, stamp: int, sequence: Iterator[int]) -> Iterator[bytes]:
    """A JPEG with the usual Huffman tables and halved colours as RTP packets."""
    tables, size, scan = _taken_apart(jpeg)
    for at in range(0, len(scan), MOST_PAYLOAD):
        piece = scan[at : at + MOST_PAYLOAD]
        last = at + MOST_PAYLOAD >= len(scan)
        head = struct.pack(">BBHII", 0x80, 26 | (0x80 if last else 0), next(sequence) & 0xFFFF, stamp, 1)
        body = struct.pack(">I", at) + bytes((1, 255, size[0] // 8, size[1] // 8))
        if at == 0:
            body += struct.pack(">BBH", 0, 0, len(tables)) + tables
        yield head + body + piece


def _taken_apart(jpeg: bytes) -> tuple[bytes, tuple[int, int], bytes]:
    """The quantisation tables, the width and height, and the scan of a JPEG."""
    tables, size, at = b"", (0, 0), 2
    while True:
        marker, length = jpeg[at + 1], int.from_bytes(jpeg[at + 2 : at + 4], "big")
        segment = jpeg[at + 4 : at + 2 + length]
        if marker == 0xDB:
            tables += b"".join(segment[n + 1 : n + 65] for n in range(0, len(segment), 65))
        elif marker == 0xC0:
            size = int.from_bytes(segment[3:5], "big"), int.from_bytes(segment[1:3], "big")
        elif marker == 0xDA:
            return tables, size, jpeg[at + 2 + length :].removesuffix(b"\xff\xd9")
        at += 2 + length
