"""A machine's own TCP port."""

from __future__ import annotations

import asyncio
from typing import cast

from chronarch.tender.transports.transport import OnData, OnLost


class TcpTransport(asyncio.Protocol):
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
