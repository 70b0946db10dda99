"""What is read: made by the background when something it shows has changed, kept as bytes, and sent with an ETag (RFC
9110), or not at all to whom has it already; packed for those who take gzip."""

from __future__ import annotations

import asyncio
import gzip
import hashlib
from collections.abc import Awaitable, Callable, Hashable
from dataclasses import dataclass, field
from functools import cache
from math import inf
from typing import Annotated, Any

from fastapi import Request, Response
from pydantic import TypeAdapter
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.service.background import Background
from chronarch.service.context import ServiceContext, part
from chronarch.service.http.paging import Page

MOST_KEPT, MOST_KEPT_BYTES = 500, 64 << 20
PACKED_FROM, PACKING = 1400, 1
"""Bytes: what is shorter is sent as it is; and how hard the rest is packed, 1 to 9."""
Work = Callable[[AsyncSession], Awaitable[Any]]
Make = Callable[[], Awaitable[bytes]]


@dataclass
class KeptView:
    """One view as it was last made. `state` is what it was made from, `made_at_s` real time in s, `link` the Link
    header."""

    state: Hashable
    made_at_s: float
    body: bytes
    etag: str
    link: str = ""
    packed: bytes = b""

    def holds(self, state: Hashable, now_s: float, good_for_s: float) -> bool:
        return self.state == state and now_s - self.made_at_s < good_for_s


@dataclass
class Views:
    """Makes views and keeps the newest, each once for all who ask for it."""

    context: ServiceContext
    background: Background
    _kept: dict[str, KeptView] = field(default_factory=dict)
    _making: dict[str, asyncio.Lock] = field(default_factory=dict)

    async def read(
        self,
        request: Request,
        kind: Any,
        work: Work,
        state: Hashable,
        page: Page | None = None,
        good_for_s: float = inf,
    ) -> Response:
        """What `work` gives, a value of the type `kind`, as JSON: made anew when `state` is not what it was, and after
        a while."""

        async def make(db: AsyncSession) -> bytes:
            return _adapter(kind).dump_json(await work(db))

        return await self.show(request, lambda: self.background.run(make), state, page, good_for_s)

    async def show(
        self,
        request: Request,
        make: Make,
        state: Hashable,
        page: Page | None = None,
        good_for_s: float = inf,
    ) -> Response:
        """The same for JSON that `make` gives."""
        view = await self._view(request, make, state, page, good_for_s)
        headers = {"ETag": view.etag, "Cache-Control": "no-cache", "Vary": "Accept-Encoding"}
        if view.link:
            headers["Link"] = view.link
        known = request.headers.get("if-none-match")
        if known and view.etag in (one.strip().removeprefix("W/") for one in known.split(",")):
            return Response(status_code=304, headers=headers)
        body = view.body
        if len(body) >= PACKED_FROM and "gzip" in request.headers.get("accept-encoding", ""):
            if not view.packed:
                view.packed = await asyncio.to_thread(gzip.compress, body, PACKING)
            body, headers["Content-Encoding"] = view.packed, "gzip"
        return Response(body, media_type="application/json", headers=headers)

    async def _view(
        self,
        request: Request,
        make: Make,
        state: Hashable,
        page: Page | None,
        good_for_s: float,
    ) -> KeptView:
        key = f"{request.scope['path']}?{request.scope['query_string'].decode('latin-1')}"
        asked_s = self.context.clock.monotonic_s()
        view = self._kept.get(key)
        if view is not None and view.holds(state, asked_s, good_for_s):
            return view
        async with self._making.setdefault(key, asyncio.Lock()):
            view, now_s = self._kept.get(key), self.context.clock.monotonic_s()
            if view is not None and (view.made_at_s >= asked_s or view.holds(state, now_s, good_for_s)):
                return view
            body = await make()
            etag = f'"{hashlib.blake2b(body, digest_size=12).hexdigest()}"'
            view = KeptView(state, now_s, body, etag, page.next if page else "")
            self._kept.pop(key, None)
            self._kept[key] = view
        self._making.pop(key, None)
        while len(self._kept) > MOST_KEPT or sum(len(kept.body) for kept in self._kept.values()) > MOST_KEPT_BYTES:
            del self._kept[next(iter(self._kept))]
        return view


@cache
def _adapter(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind)


TheViews = Annotated[Views, part(Views)]
