"""uvicorn's HTTP protocol with two additions: a connection that sends half a request is closed after a time, and bad
HTTP is answered with a problem document."""

from __future__ import annotations

import asyncio
import base64
import binascii
import json
from typing import Any

from uvicorn.protocols.http.httptools_impl import STATUS_LINE, HttpToolsProtocol

from chronarch.service.http.errors import problem_of
from chronarch.service.http.hardening import SECURITY_HEADERS

HEAD_WITHIN_S, MOST_HEAD = 15.0, 64 << 10
"""A request's first line and headers must arrive within this time and have at most this many bytes."""
BODY_PAUSE_S, BODY_GRACE_S, SLOWEST_BODY = 20.0, 30.0, 1000
"""A body may pause for `BODY_PAUSE_S`; after `BODY_GRACE_S` it must arrive with `SLOWEST_BODY` bytes a second."""
SOCKETS = frozenset((b"/api/tender", b"/api/tender/cameras", b"/api/looking"))
"""The addresses at which a WebSocket may be opened."""
LINGER_S = 5.0
"""A client that is answered before it has sent everything gets this long to read the answer."""


class BoundedProtocol(HttpToolsProtocol):
    """One connection."""

    _timer: asyncio.TimerHandle | None = None
    _in_head = True
    _head = 0
    _whole = True
    """Whether the last request has arrived completely."""
    _body = 0
    _body_began = _body_last = 0.0

    # What happens on the connection ---------------------------------------------------------------------------

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._after(HEAD_WITHIN_S, self._no_head)

    def connection_lost(self, exc: Exception | None) -> None:
        self._stop()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        was_in_head = self._in_head
        super().data_received(data)
        if self._in_head and was_in_head and not self.transport.is_closing():
            self._head += len(data)
            if self._head > MOST_HEAD:
                self._refuse(431, f"The request's headers have over {MOST_HEAD // 1024} KiB; send less.")

    def on_message_begin(self) -> None:
        super().on_message_begin()
        self._in_head, self._head = True, 0
        if self._timer is None:
            self._after(HEAD_WITHIN_S, self._no_head)

    def on_headers_complete(self) -> None:
        self._stop()
        self._in_head, self._whole, self._body = False, False, 0
        super().on_headers_complete()
        self._body_began = self._body_last = self.loop.time()
        self._after(BODY_PAUSE_S / 4, self._look_at_body)

    def on_body(self, body: bytes) -> None:
        self._body += len(body)
        self._body_last = self.loop.time()
        super().on_body(body)

    def on_message_complete(self) -> None:
        self._stop()
        self._whole = True
        super().on_message_complete()

    def on_response_complete(self) -> None:
        super().on_response_complete()
        if not self._whole and not self.transport.is_closing():
            self._after(LINGER_S, self.transport.close)

    def _should_upgrade(self) -> bool:
        """Only a sound handshake at a socket's address becomes a WebSocket; anything else is an ordinary request."""
        headers = dict(self.headers)
        try:
            key = base64.b64decode(headers.get(b"sec-websocket-key", b""), validate=True)
        except binascii.Error:
            return False
        sound = len(key) == 16 and headers.get(b"sec-websocket-version") == b"13"
        return sound and self.url.partition(b"?")[0] in SOCKETS and super()._should_upgrade()

    def handle_websocket_upgrade(self) -> None:
        self._stop()
        super().handle_websocket_upgrade()

    # What is done about it -------------------------------------------------------------------------------------

    def _after(self, seconds: float, what: Any) -> None:
        self._stop()
        self._timer = self.loop.call_later(seconds, what)

    def _stop(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None

    def _no_head(self) -> None:
        self._timer = None
        if self._in_head:
            self._refuse(408, f"The request did not come whole within {HEAD_WITHIN_S:.0f} s; send it again.")

    def _look_at_body(self) -> None:
        now = self.loop.time()
        if self.flow.read_paused:
            self._body_last = now  # the service is slow, not the client
        lasts = now - self._body_began
        slow = lasts > BODY_GRACE_S and self._body < (lasts - BODY_GRACE_S) * SLOWEST_BODY
        if now - self._body_last > BODY_PAUSE_S or slow:
            self._refuse(408, "The request's body came too slowly and was given up; send it again.")
        else:
            self._after(BODY_PAUSE_S / 4, self._look_at_body)

    def send_400_response(self, msg: str) -> None:
        self._refuse(400, "This is no HTTP request that can be understood.")

    def _refuse(self, status: int, detail: str) -> None:
        """Say why, unless an answer is under way, and close."""
        self._stop()
        if self.transport.is_closing():
            return
        if self.cycle is None or self.cycle.response_complete or not self.cycle.response_started:
            body = json.dumps(problem_of(status, detail)).encode()
            headers = {
                "Content-Type": "application/problem+json", "Content-Length": str(len(body)), "Connection": "close",
                **SECURITY_HEADERS,
            }  # fmt: skip
            lines = "".join(f"{name}: {value}\r\n" for name, value in headers.items())
            self.transport.write(STATUS_LINE[status] + lines.encode() + b"\r\n" + body)
        self.transport.close()
