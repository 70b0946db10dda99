"""Serial ports, here or behind RFC 2217.

pyserial blocks: each port has a thread that reads and one that writes, so that neither holds up another machine.
"""

from __future__ import annotations

import asyncio
import contextlib
import queue
import threading
import time
from collections.abc import Callable

import serial

from chronarch.core.control.firmware_info import SPEEDS, WAKE_S, sounds_right
from chronarch.core.control.line_protocol import QUESTION
from chronarch.core.machines.address import Address
from chronarch.tender.transports.transport import OnData, OnLost

LISTEN_S = 0.6


class SerialTransport:
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
            pass  # unplugged, or closed while it was read
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
    url = address.device or f"rfc2217://{address.host}:{address.port}"
    try:
        port = serial.serial_for_url(url, baudrate=speed, timeout=0.1, do_not_open=True)
        if address.device:
            port.exclusive, port.write_timeout = True, 5
        port.open()
    except (serial.SerialException, ValueError, NotImplementedError) as error:
        raise OSError(f"{address.shown} cannot be opened: {error}") from error
    return port


def find_speed(address: Address, told: Callable[[int, bytes], None] = lambda speed, heard: None) -> int | None:
    """The speed at which a machine answers on a serial port; None when it answers at none. Blocks for some seconds. The
    question is a line that no machine runs. `told` hears what came back at each speed."""
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
