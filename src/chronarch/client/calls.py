"""The two clients. They share every request; only the waiting differs.

from chronarch.client import Client, requests
from chronarch.wire.orders.jobs import NewJob

with Client("http://127.0.0.1:8420", key) as client:
    client.add_file(Path("bobbin-32.gcode"))
    client.do(requests.submit(NewJob(file="bobbin-32.gcode", copies=3)))
"""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from pathlib import Path
from types import TracebackType
from typing import Any, Self, TypeVar

import httpx

from chronarch.client import requests
from chronarch.client.call import Call, check, digest, pieces
from chronarch.client.errors import RefusedByService, Unreachable, WrongAccess
from chronarch.wire import library as wl
from chronarch.wire.common import Problem
from chronarch.wire.system.shop import LiveEvent
from chronarch.wire.watching.looking import Got, See, SeenFrame, Wish, unpack_seen

T = TypeVar("T")
TIMEOUT = httpx.Timeout(30.0, connect=5.0)
FETCHED_WITHIN_S = 1100.0
IDLE_S = 3.0
"""A connection that was idle for longer is not used again: the service may be closing it at that moment."""


class _Lines:
    """Puts server-sent lines together into events."""

    def __init__(self) -> None:
        self._name, self._data, self._number = "message", "", ""

    def take(self, line: str) -> LiveEvent | None:
        if line.startswith("event: "):
            self._name = line[7:]
        elif line.startswith("id: "):
            self._number = line[4:]
        elif line.startswith("data: "):
            self._data += line[6:]
        elif not line and self._data:
            event = LiveEvent(self._name, self._data, int(self._number) if self._number.isdigit() else None)
            self._name, self._data, self._number = "message", "", ""
            return event
        return None


def _after(number: int | None) -> dict[str, str]:
    return {} if number is None else {"Last-Event-ID": str(number)}


def _away(address: str, error: httpx.TransportError) -> Unreachable:
    why = str(error) or type(error).__name__
    return Unreachable(f"The service at {address} does not answer ({why}); is it running, is the address right?")


def _settings(address: str, key: str) -> dict[str, Any]:
    """How both clients connect. Certificates are read only for https, because that takes longer than many a call."""
    if not (key.isascii() and key.isprintable()):
        raise WrongAccess("The key holds characters that no key has; copy it again, or make a new one.")
    try:
        url = httpx.URL(address)
        good = url.scheme in ("http", "https") and bool(url.host) and (url.port or 1) < 65536
    except httpx.InvalidURL:
        good = False
    if not good:
        raise WrongAccess(f"{address!r} is no address of a service; write it as http://HOST:PORT.")
    headers = {"Authorization": f"Bearer {key}"} if key else {}
    verify = not address.lower().startswith("http://")
    limits = httpx.Limits(max_connections=100, max_keepalive_connections=20, keepalive_expiry=IDLE_S)
    return {
        "base_url": address, "headers": headers, "timeout": TIMEOUT, "limits": limits, "trust_env": False,
        "verify": verify,
    }  # fmt: skip


class Client:
    """Calls that wait for the answer. `address` is http://host:port; `key` is a secret with the scope that the calls
    need."""

    def __init__(self, address: str, key: str = "") -> None:
        self.address = address.rstrip("/")
        self._http = httpx.Client(**_settings(self.address, key))

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    def do(self, call: Call[T], within_s: float | None = None) -> T:
        """Carry out one call of `chronarch.client.requests`; `within_s` for one whose answer may take long. Raises
        Unreachable or RefusedByService."""
        limit = TIMEOUT if within_s is None else httpx.Timeout(within_s, connect=5.0)
        try:
            return call.read(self._http.request(call.method, call.path, timeout=limit, **call.arguments()))
        except httpx.TransportError as error:
            raise _away(self.address, error) from error

    def all(self, call: Call[list[T]], most: int | None = None) -> list[T]:
        """A list, page by page until its end, or until there are `most`. Raises Unreachable or RefusedByService."""
        found: list[T] = []
        following: Call[list[T]] | None = call.page(most)
        try:
            while following is not None and (most is None or len(found) < most):
                response = self._http.request(following.method, following.path, **following.arguments())
                found += following.read(response)
                following = following.next(response)
        except httpx.TransportError as error:
            raise _away(self.address, error) from error
        return found if most is None else found[:most]

    def save(self, call: Call[bytes], into: Path, within_s: float = 3600.0) -> int:
        """Put what a call gives into a file, piece by piece; the file is there once it is whole. Returns its bytes.
        Raises Unreachable, RefusedByService, OSError."""
        fresh, count = into.with_name(f"{into.name}.part"), 0
        limit = httpx.Timeout(within_s, connect=5.0)
        try:
            with (
                self._http.stream(call.method, call.path, timeout=limit, **call.arguments()) as response,
                fresh.open("wb") as out,
            ):
                if response.is_error:
                    response.read()
                check(response)
                for piece in response.iter_bytes():
                    count += out.write(piece)
            fresh.replace(into)
        except httpx.TransportError as error:
            raise _away(self.address, error) from error
        finally:
            fresh.unlink(missing_ok=True)
        return count

    def add_file(
        self,
        path: Path,
        name: str = "",
        progress: Callable[[int], None] = lambda n: None,
        *,
        folder: str = "",
        queue: wl.QueueWish | None = None,
        once: str = "",
    ) -> wl.Dropped:
        """Send a file and wait until it has been read. `progress` hears how many bytes went with each piece; `queue`
        has copies queued in the same call; `once` is an Idempotency-Key."""

        def body() -> Iterator[bytes]:
            for piece in pieces(path):
                yield piece
                progress(len(piece))

        call = requests.drop(name or path.name, folder, queue, once, digest(path))
        try:
            response = self._http.put(call.path, params=call.params, content=body(), headers=call.headers, timeout=600)
        except httpx.TransportError as error:
            raise _away(self.address, error) from error
        return self._read(call.read(response))

    def fetch_file(self, asked: wl.AddressWish, once: str = "") -> wl.Dropped:
        """Have the service fetch a file from an address, and wait until it has been read."""
        return self._read(self.do(requests.drop_from_address(asked, once), FETCHED_WITHIN_S))

    def _read(self, answer: wl.Dropped | wl.Arrival) -> wl.Dropped:
        """What was added, once it has been read."""
        while isinstance(answer, wl.Arrival):
            time.sleep(0.5)
            there = self.do(requests.arrival(answer.id))
            if there.state == "refused":
                raise RefusedByService(Problem(title="Not understood", status=422, detail=there.problem))
            if there.state == "done":
                file = self.do(requests.file(there.file or 0))
                return wl.Dropped(file=file, job=there.job, new=True)
        return answer

    def live(self, after: int | None = None) -> Iterator[LiveEvent]:
        """The live stream, until the service ends it; it continues `after` a change of this number."""
        lines, headers = _Lines(), _after(after)
        try:
            with self._http.stream("GET", "/api/live", headers=headers, timeout=httpx.Timeout(30.0)) as response:
                if response.is_error:
                    response.read()
                check(response)
                for line in response.iter_lines():
                    event = lines.take(line)
                    if event:
                        yield event
        except httpx.TransportError as error:
            raise _away(self.address, error) from error


class AsyncClient:
    """The same for asyncio."""

    def __init__(self, address: str, key: str = "") -> None:
        self.address = address.rstrip("/")
        self._http = httpx.AsyncClient(**_settings(self.address, key))

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        await self._http.aclose()

    async def do(self, call: Call[T]) -> T:
        """Carry out one call of `chronarch.client.requests`. Raises Unreachable or RefusedByService."""
        try:
            return call.read(await self._http.request(call.method, call.path, **call.arguments()))
        except httpx.TransportError as error:
            raise _away(self.address, error) from error

    async def all(self, call: Call[list[T]], most: int | None = None) -> list[T]:
        """A list, page by page until its end, or until there are `most`. Raises Unreachable or RefusedByService."""
        found: list[T] = []
        following: Call[list[T]] | None = call.page(most)
        try:
            while following is not None and (most is None or len(found) < most):
                response = await self._http.request(following.method, following.path, **following.arguments())
                found += following.read(response)
                following = following.next(response)
        except httpx.TransportError as error:
            raise _away(self.address, error) from error
        return found if most is None else found[:most]

    async def blob(self, sha256: str, into: Path) -> None:
        """Fetch a file's bytes by their hash (tenders' keys only)."""
        try:
            async with self._http.stream("GET", f"/api/blobs/{sha256}") as response:
                if response.is_error:
                    await response.aread()
                check(response)
                with into.open("wb") as out:
                    async for chunk in response.aiter_bytes():
                        out.write(chunk)
        except httpx.TransportError as error:
            raise _away(self.address, error) from error

    async def put_log(self, build: int, packed: Path) -> None:
        """Hand over a build's line log, gzip-packed (tenders' keys only)."""

        async def body() -> AsyncIterator[bytes]:
            for piece in pieces(packed):
                yield piece

        try:
            check(await self._http.put(f"/api/builds/{build}/log", content=body(), timeout=600))
        except httpx.TransportError as error:
            raise _away(self.address, error) from error

    async def look(self, cameras: Mapping[str, Wish]) -> AsyncIterator[SeenFrame]:
        """Live pictures of cameras, as they come: newer rather than more where they come faster than they are taken.
        Ends with the connection."""
        from websockets.asyncio.client import connect
        from websockets.exceptions import WebSocketException

        url = f"{self.address.replace('http', 'ws', 1)}/api/looking"
        heads = {name: value for name, value in self._http.headers.items() if name == "authorization"}
        try:
            async with connect(
                url, additional_headers=heads, proxy=None, compression=None, max_size=16 << 20
            ) as socket:
                await socket.send(See(cameras=dict(cameras)).model_dump_json())
                async for message in socket:
                    seen = unpack_seen(message)
                    yield seen
                    await socket.send(Got(number=seen.head.number).model_dump_json())
        except (OSError, WebSocketException) as error:
            raise Unreachable(f"The service at {self.address} shows no live pictures ({error}).") from error

    async def live(self, after: int | None = None) -> AsyncIterator[LiveEvent]:
        """The live stream, until the service ends it; it continues `after` a change of this number."""
        lines, headers = _Lines(), _after(after)
        try:
            async with self._http.stream("GET", "/api/live", headers=headers, timeout=httpx.Timeout(30.0)) as response:
                if response.is_error:
                    await response.aread()
                check(response)
                async for line in response.aiter_lines():
                    event = lines.take(line)
                    if event:
                        yield event
        except httpx.TransportError as error:
            raise _away(self.address, error) from error
