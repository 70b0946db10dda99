"""A device on a socket that answers as it is told to, byte by byte, however wrong that is."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable
from contextlib import suppress

Answer = Callable[[str, asyncio.StreamWriter], Awaitable[None]]


class RawDevice:
    """Answers each request on a loopback port by `answer(its head, where to write)`; `asked` and `bodies` are the
    heads and bodies so far."""

    def __init__(self, answer: Answer | bytes) -> None:
        self.answer = answer
        self.asked: list[str] = []
        self.bodies: list[bytes] = []
        self.open = self.opened = 0
        self._server: asyncio.Server | None = None

    async def __aenter__(self) -> RawDevice:
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        return self

    async def __aexit__(self, *error: object) -> None:
        assert self._server is not None
        self._server.close()

    @property
    def port(self) -> int:
        assert self._server is not None
        return int(self._server.sockets[0].getsockname()[1])

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.open += 1
        self.opened += 1
        try:
            with suppress(ConnectionError, asyncio.IncompleteReadError, asyncio.CancelledError):
                while True:
                    head = (await reader.readuntil(b"\r\n\r\n")).decode()
                    length = re.search(r"content-length: (\d+)", head, re.IGNORECASE)
                    self.bodies.append(await reader.readexactly(int(length[1])) if length else b"")
                    self.asked.append(head)
                    if isinstance(self.answer, bytes):
                        writer.write(self.answer)
                    else:
                        await self.answer(head, writer)
                    await writer.drain()
        finally:
            self.open -= 1
            writer.close()


def answer(body: bytes, kind: str = "image/jpeg", status: str = "200 OK", *more: str) -> bytes:
    """A whole HTTP answer."""
    heads = [f"HTTP/1.1 {status}", f"Content-Type: {kind}", f"Content-Length: {len(body)}", *more]
    return "\r\n".join([*heads, "", ""]).encode() + body
