"""What holds for every answer of every route: security headers, a problem document for unexpected failures, and HEAD
wherever there is GET."""

from __future__ import annotations

import asyncio
import logging
from contextlib import suppress

from starlette.requests import ClientDisconnect
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from chronarch.service.http.errors import problem

SECURITY_HEADERS = {
    "Content-Security-Policy": "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; "
    "frame-ancestors 'none'; base-uri 'none'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
}
_ENCODED = [(name.lower().encode(), value.encode()) for name, value in SECURITY_HEADERS.items()]
UNFORESEEN = "The service failed in an unexpected way; its log says how. Try again, and report it if it happens again."
log = logging.getLogger("chronarch.service")


class Hardened:
    """Wraps the application."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        started = False

        async def send_with(message: Message) -> None:
            nonlocal started
            if message["type"] == "http.response.start":
                started = True
                headers = list(message.get("headers", ()))
                given = {name for name, _ in headers}
                message["headers"] = headers + [header for header in _ENCODED if header[0] not in given]
            await send(message)

        try:
            if scope["method"] == "HEAD":
                await _head(self._app, scope, receive, send_with)
            else:
                await self._app(scope, receive, send_with)
        except ClientDisconnect:
            pass  # the client is gone
        except Exception:
            log.exception("%s %s failed", scope["method"], scope["path"])
            if not started:
                await problem(500, UNFORESEEN)(scope, receive, send_with)


async def _head(app: ASGIApp, scope: Scope, receive: Receive, send: Send) -> None:
    """Answer as to GET, without the body. The handler is cancelled once its headers are known: a stream has no end."""
    answered = asyncio.Event()

    async def send_start(message: Message) -> None:
        if message["type"] == "http.response.start":
            await send(message)
            await send({"type": "http.response.body", "body": b""})
            answered.set()
        elif answered.is_set():
            await asyncio.sleep(0)

    async def ask() -> None:
        await app({**scope, "method": "GET"}, receive, send_start)

    asked = asyncio.create_task(ask())
    waiting = asyncio.create_task(answered.wait())
    try:
        await asyncio.wait({asked, waiting}, return_when=asyncio.FIRST_COMPLETED)
        if not answered.is_set():
            await asked  # raises what it raised
    finally:
        for task in (asked, waiting):
            task.cancel()
            with suppress(asyncio.CancelledError, Exception):
                await task
