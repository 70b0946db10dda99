"""Ways to a machine that talks in lines: TCP, a serial port, a serial port behind RFC 2217.

Serial ports are pyserial's, which blocks; each has a thread that reads and one that writes, so that neither holds up
another machine. Whoever opens a line holds its device: a second link to it on this computer is refused with who has it.
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import hashlib
import json
import os
import queue
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Protocol, cast

import serial

from chronarch.core.address import Address
from chronarch.core.contact import SPEEDS, WAKE_S, sounds_right
from chronarch.core.line_link import QUESTION

CONNECT_S = 5.0
LISTEN_S = 0.6
OnData = Callable[[bytes], None]
OnLost = Callable[[], None]


class Held(OSError):
    """The device has a link already; says whose."""


class Line(Protocol):
    """An open way to a machine."""

    def write(self, data: bytes) -> None: ...

    def close(self) -> None: ...


@contextlib.contextmanager
def hold(address: Address, holder: str) -> Iterator[None]:
    """Hold the device behind an address for `holder`. Raises Held."""
    folder = Path(tempfile.gettempdir()) / f"chronarch-links-{os.getuid()}"
    folder.mkdir(mode=0o700, exist_ok=True)
    device = address.device_key
    if address.kind == "serial":
        device = f"serial:{Path(address.device).resolve()}"  # two names of one port are one device
    path = folder / hashlib.sha256(device.encode()).hexdigest()[:24]
    with path.open("a+") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.seek(0)
            with contextlib.suppress(ValueError):
                raise Held(f"{address.shown} is held by {json.loads(file.read())['holder']}") from None
            raise Held(f"{address.shown} is held by another link") from None
        file.truncate(0)
        file.write(json.dumps({"holder": holder}))
        file.flush()
        yield


async def open_line(address: Address, on_data: OnData, on_lost: OnLost) -> Line:
    """Open the way to a machine; what it says goes to `on_data`, `on_lost` is called once when it is gone. A serial
    address must say its speed. Raises OSError and TimeoutError."""
    loop = asyncio.get_running_loop()
    if address.kind == "tcp":
        connecting = loop.create_connection(lambda: _Tcp(on_data, on_lost), address.host, address.port)
        async with asyncio.timeout(CONNECT_S):
            _, protocol = await connecting
        return protocol
    port = await asyncio.to_thread(open_port, address, address.speed or SPEEDS[0])
    return _Serial(port, loop, on_data, on_lost)


class _Tcp(asyncio.Protocol):
    def __init__(self, on_data: OnData, on_lost: OnLost) -> None:
        self._on_data, self._on_lost = on_data, on_lost
        self._transport: asyncio.Transport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.Transport, transport)

    def data_received(self, data: bytes) -> None:
        self._on_data(data)

    def connection_lost(self, exc: Exception | None) -> None:
        self._transport = None
        self._on_lost()

    def write(self, data: bytes) -> None:
        if self._transport is not None:
            self._transport.write(data)

    def close(self) -> None:
        if self._transport is not None:
            self._transport.abort()


class _Serial:
    def __init__(self, port: serial.Serial, loop: asyncio.AbstractEventLoop, on_data: OnData, on_lost: OnLost) -> None:
        self._port, self._loop = port, loop
        self._on_data, self._on_lost = on_data, on_lost
        self._closed = False
        self._out: queue.SimpleQueue[bytes | None] = queue.SimpleQueue()
        for work in (self._read, self._send):
            threading.Thread(target=work, daemon=True).start()

    def _read(self) -> None:
        try:
            while not self._closed:
                data = self._port.read(max(1, self._port.in_waiting))
                if data:
                    self._loop.call_soon_threadsafe(self._on_data, data)
        except (OSError, serial.SerialException, TypeError, AttributeError):
            pass  # unplugged, or closed under the reading
        finally:
            self._out.put(None)
            with contextlib.suppress(RuntimeError):
                self._loop.call_soon_threadsafe(self._gone)

    def _send(self) -> None:
        with contextlib.suppress(OSError, serial.SerialException):
            while (data := self._out.get()) is not None:
                self._port.write(data)
        self._closed = True

    def _gone(self) -> None:
        self._closed = True
        with contextlib.suppress(OSError, serial.SerialException):
            self._port.close()
        self._on_lost()

    def write(self, data: bytes) -> None:
        self._out.put(data)

    def close(self) -> None:
        self._closed = True
        self._out.put(None)
        with contextlib.suppress(OSError, serial.SerialException, AttributeError):
            self._port.cancel_read()


def open_port(address: Address, speed: int) -> serial.Serial:
    """Open a serial port at a speed. Raises OSError."""
    url = address.device if address.kind == "serial" else f"rfc2217://{address.host}:{address.port}"
    try:
        port = serial.serial_for_url(url, baudrate=speed, timeout=0.1, do_not_open=True)
        if address.kind == "serial":
            port.exclusive, port.write_timeout = True, 5
        port.open()
    except (serial.SerialException, ValueError, NotImplementedError) as error:
        raise OSError(f"{address.shown} cannot be opened: {error}") from error
    return port


def find_speed(address: Address, told: Callable[[int, bytes], None] = lambda speed, heard: None) -> int | None:
    """The speed a machine talks at on a serial link; None when it answers at none. Blocks for some seconds. It is asked
    with a line that no machine runs; `told` hears what came back at each speed."""
    for n, speed in enumerate((address.speed,) if address.speed else SPEEDS):
        with contextlib.closing(open_port(address, speed)) as port:
            heard = b""
            if n == 0:
                heard = _listen(port, WAKE_S)
            port.write(b"\n" + QUESTION + b"\n")
            heard += _listen(port, LISTEN_S)
        told(speed, heard)
        if sounds_right(heard) and b"ok" in heard:
            return speed
    return None


def _listen(port: serial.Serial, seconds: float) -> bytes:
    heard, until = b"", time.monotonic() + seconds
    while time.monotonic() < until:
        piece = port.read(max(1, port.in_waiting))
        heard += piece
        if heard.endswith(b"ok\n") or heard.endswith(b"ok\r\n"):
            break
    return heard
