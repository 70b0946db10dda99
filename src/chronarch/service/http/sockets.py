"""What all WebSockets share: why one is closed, and closing it."""

from __future__ import annotations

from contextlib import suppress

from fastapi import WebSocket, WebSocketDisconnect

NOT_UNDERSTOOD, REFUSED = 4400, 4401


async def close_socket(socket: WebSocket, code: int, reason: str) -> None:
    """Close a socket that may be closed already."""
    with suppress(RuntimeError, WebSocketDisconnect):
        await socket.close(code, reason[:120])
