"""A stand-in's serial port: a pseudo-terminal under a stable name, or RFC 2217 on a TCP port.

At another speed than the machine's both directions are noise, as on a real wire.
"""

from __future__ import annotations

import asyncio
import os
import random
import struct
import termios
import tty
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Protocol

_SPEEDS = {
    getattr(termios, f"B{speed}"): speed
    for speed in (9600, 19200, 38400, 57600, 115200, 230400, 250000, 500000, 1000000, 2000000)
    if hasattr(termios, f"B{speed}")
}
IAC, DONT, DO, WONT, WILL, SB, SE = 255, 254, 253, 252, 251, 250, 240
COM_PORT, SET_BAUDRATE, SERVER = 44, 1, 100


class Wanted(Protocol):
    """What a serial port needs to know of its machine."""

    @property
    def port(self) -> int: ...
    @property
    def port_name(self) -> str: ...
    @property
    def speed(self) -> int: ...
    @property
    def seed(self) -> int: ...


class Front:
    """One serial port; `take` is given every line that arrives, `gone` is told when the other end goes."""

    def __init__(self, setup: Wanted, take: Callable[[bytes], Awaitable[None]], gone: Callable[[], None]) -> None:
        self._setup, self._take, self._gone = setup, take, gone
        self._lines: asyncio.Queue[bytes] = asyncio.Queue()
        self._random = random.Random(setup.seed)
        self._partial = b""
        self._master = self._slave = -1
        self._server: asyncio.Server | None = None
        self._writer: asyncio.StreamWriter | None = None
        self._speed = setup.speed
        self._cut_until = 0.0
        self._work: asyncio.Task[None] | None = None
        self.port = 0

    async def start(self) -> None:
        loop = asyncio.get_running_loop()
        self._work = asyncio.create_task(self._pass_on())
        if self._setup.port_name:
            self._master, self._slave = os.openpty()
            tty.setraw(self._master)
            os.set_blocking(self._master, False)
            path = Path(self._setup.port_name)
            path.parent.mkdir(parents=True, exist_ok=True)
            path.unlink(missing_ok=True)
            path.symlink_to(os.ttyname(self._slave))
            loop.add_reader(self._master, self._readable)
        else:
            self._server = await asyncio.start_server(self._serve, "127.0.0.1", self._setup.port)
            self.port = self._server.sockets[0].getsockname()[1]

    async def _pass_on(self) -> None:
        while True:
            await self._take(await self._lines.get())

    def _heard(self, data: bytes) -> None:
        if self._off() or self._cut():
            return
        *lines, self._partial = (self._partial + data).split(b"\n")
        for line in lines:
            self._lines.put_nowait(line + b"\n")

    def _off(self) -> bool:
        """Whether the other end talks at another speed than the machine."""
        if self._master >= 0:
            self._speed = _SPEEDS.get(termios.tcgetattr(self._master)[5], 0)
        return self._speed != self._setup.speed

    def _cut(self) -> bool:
        return asyncio.get_running_loop().time() < self._cut_until

    def _readable(self) -> None:
        try:
            data = os.read(self._master, 65536)
        except OSError:
            return
        if self._off():
            self.write(b"?\n")
        self._heard(data)

    def write(self, data: bytes) -> None:
        """Say something; at another speed it arrives as noise."""
        if self._cut():
            return
        if self._off():
            data = bytes(self._random.randrange(128, 256) for _ in data)
        if self._master >= 0:
            try:
                os.write(self._master, data)
            except (BlockingIOError, OSError):
                return  # nobody reads: the wire loses it
        elif self._writer is not None and not self._writer.is_closing():
            self._writer.write(data.replace(b"\xff", b"\xff\xff"))

    def cut(self, seconds: float) -> None:
        """Pull the plug out for this many seconds."""
        self._cut_until = asyncio.get_running_loop().time() + seconds
        if self._writer is not None:
            self._writer.transport.abort()

    # RFC 2217 ------------------------------------------------------------------------------------------------

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if self._cut():
            writer.transport.abort()
            return
        if self._writer is not None:
            self._writer.transport.abort()
        self._writer = writer
        buffer = b""
        try:
            while data := await reader.read(65536):
                buffer = self._telnet(buffer + data, writer)
        except (ConnectionError, asyncio.CancelledError):
            pass
        self._gone()

    def _telnet(self, data: bytes, writer: asyncio.StreamWriter) -> bytes:
        """Take the options out of the stream and answer them; returns what is not complete yet."""
        plain, at = bytearray(), 0
        while at < len(data):
            if data[at] != IAC:
                plain.append(data[at])
                at += 1
            elif at + 1 >= len(data):
                break
            elif data[at + 1] == IAC:
                plain.append(IAC)
                at += 2
            elif data[at + 1] in (DO, DONT, WILL, WONT):
                if at + 2 >= len(data):
                    break
                self._negotiate(data[at + 1], data[at + 2], writer)
                at += 3
            elif data[at + 1] == SB:
                end = data.find(bytes((IAC, SE)), at)
                if end < 0:
                    break
                self._option(data[at + 2 : end].replace(b"\xff\xff", b"\xff"), writer)
                at = end + 2
            else:
                at += 2
        self._heard(bytes(plain))
        return data[at:]

    def _negotiate(self, verb: int, option: int, writer: asyncio.StreamWriter) -> None:
        agreed = option in (0, 3, COM_PORT)  # binary, suppress go ahead, com port
        if verb == DO:
            writer.write(bytes((IAC, WILL if agreed else WONT, option)))
        elif verb == WILL:
            writer.write(bytes((IAC, DO if agreed else DONT, option)))

    def _option(self, body: bytes, writer: asyncio.StreamWriter) -> None:
        if len(body) < 2 or body[0] != COM_PORT:
            return
        command, value = body[1], body[2:]
        if command == SET_BAUDRATE and len(value) == 4:
            self._speed = struct.unpack("!I", value)[0] or self._speed
            value = struct.pack("!I", self._speed)
        answer = bytes((COM_PORT, command + SERVER)) + value
        writer.write(bytes((IAC, SB)) + answer.replace(b"\xff", b"\xff\xff") + bytes((IAC, SE)))

    def stop(self) -> None:
        if self._work is not None:
            self._work.cancel()
        if self._server is not None:
            self._server.close()
        if self._writer is not None:
            self._writer.transport.abort()
        if self._master >= 0:
            asyncio.get_running_loop().remove_reader(self._master)
            os.close(self._master)
            os.close(self._slave)
            self._master = self._slave = -1
            Path(self._setup.port_name).unlink(missing_ok=True)
