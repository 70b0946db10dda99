"""Carries out again a request that the database undid because two waited for each other."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Callable, Coroutine
from typing import Any
from unicodedata import normalize

from fastapi import Request, Response
from fastapi.routing import APIRoute
from sqlalchemy.exc import OperationalError

from chronarch.records.failures import deadlocked
from chronarch.service.audit_log import audited
from chronarch.service.http import record_numbers as record_numbers  # what `{number:record}` in an address takes
from chronarch.service.http.request_bodies import bounded
from chronarch.service.permissions import READING, let_in

TRIES = 6
PAUSE_S = 0.02

Handler = Callable[[Request], Coroutine[Any, Any, Response]]


def _kept(request: Request) -> bool:
    """Whether the request has no body, or one that was read as a whole."""
    sent = request.headers
    empty = "transfer-encoding" not in sent and sent.get("content-length", "0") == "0"
    return empty or sent.get("content-type", "").startswith("application/json")


class RetryingRoute(APIRoute):
    """A route whose request is carried out again after a deadlock, which leaves nothing behind, up to `TRIES` times.

    A body that was streamed is gone by then: the client must send such a request again.
    """

    def get_route_handler(self) -> Handler:
        once = super().get_route_handler()
        path, read_whole = self.path_format.removeprefix("/api"), self.body_field is not None

        async def again(request: Request) -> Response:
            named = request.scope["path_params"]
            if named:
                named.update(
                    {k: normalize("NFC", v) for k, v in named.items() if isinstance(v, str) and not v.isascii()}
                )
            async with audited(request, path):
                await let_in(request, path)
                return await tried(request)

        async def tried(request: Request) -> Response:
            if request.method not in READING:
                request = bounded(path, read_whole, request)
            for more in reversed(range(TRIES)):
                try:
                    return await once(request)
                except OperationalError as error:
                    if not (more and deadlocked(error) and _kept(request)):
                        raise
                await asyncio.sleep(random.uniform(0, PAUSE_S * (TRIES - more)))
            raise AssertionError("unreachable")

        return again
