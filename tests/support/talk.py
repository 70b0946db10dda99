"""A conversation with the service over a WebSocket, as a test holds it."""

from __future__ import annotations

import json
from typing import Any

from websockets.exceptions import ConnectionClosed
from websockets.sync.client import ClientConnection


def heard(socket: ClientConnection) -> dict[str, Any]:
    """What the service says next, whatever it asks the tender meanwhile."""
    while (said := json.loads(socket.recv(timeout=60)))["kind"] == "command":
        pass
    return dict(said)


def sent_away(socket: ClientConnection) -> tuple[int, str]:
    """With which code, and why, the service ends the conversation, whatever it says before."""
    try:
        while True:
            socket.recv(timeout=60)
    except ConnectionClosed as closed:
        return (closed.rcvd.code, closed.rcvd.reason) if closed.rcvd else (0, "")
