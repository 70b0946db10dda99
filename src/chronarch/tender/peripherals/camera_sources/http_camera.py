"""Cameras over HTTP: one JPEG for each request, or pictures without end (multipart/x-mixed-replace, RFC 2046). Which of
them an address gives is seen from its answer.

A redirect is not followed: it could lead where no camera is. The certificate of an https camera is not checked, because
cameras sign their own.
"""

from __future__ import annotations

import asyncio
import re
import ssl
from collections.abc import AsyncIterator, Iterator
from contextlib import AsyncExitStack
from datetime import datetime

import httpx

from chronarch.tender.peripherals.camera_sources.source import (
    ANSWER_S,
    LARGEST,
    NEXT_S,
    CameraFailed,
    CameraSetup,
    Shot,
    Source,
)
from chronarch.tender.tasks import end

CLOSED_FROM_S = 2.0
"""A stream whose next picture is not wanted for this long is closed until then, and a connection that rests for so long
is not used again: a camera may close it just as it is asked."""
HEADS = 16_384
"""Bytes that the heads of one part may have."""
JPEG = b"\xff\xd8\xff"


class HttpCamera(Source):
    """One address, asked again and again."""

    def __init__(self, setup: CameraSetup) -> None:
        super().__init__(setup)
        timeout = httpx.Timeout(NEXT_S, connect=ANSWER_S)
        limits = httpx.Limits(keepalive_expiry=CLOSED_FROM_S)
        self._http = httpx.AsyncClient(trust_env=False, verify=False, timeout=timeout, limits=limits)
        self._auth: httpx.Auth | None = None
        self._stream: PictureStream | None = None

    async def shot(self, next_in_s: float) -> Shot:
        try:
            if self._stream is None:
                shot = await self._ask()
            else:
                shot = await self._stream.newest()
        except httpx.ConnectTimeout:
            text = f"no connection within {ANSWER_S:.0f} s; is it switched on, is the address right?"
            raise CameraFailed(text) from None
        except (TimeoutError, httpx.TimeoutException):
            waited_s = NEXT_S if self._stream else ANSWER_S
            raise CameraFailed(f"timed out after {waited_s:.0f} s; if it goes on, restart it") from None
        except httpx.ConnectError as error:
            raise CameraFailed(_why_not_connected(error)) from None
        except httpx.HTTPError as error:
            raise CameraFailed(f"the connection broke off ({error or type(error).__name__})") from None
        if next_in_s >= CLOSED_FROM_S:
            await self._hang_up()
        return shot

    async def _ask(self) -> Shot:
        """Send the request. A picture is the answer; of a stream, its first one."""
        async with AsyncExitStack() as stack:
            async with asyncio.timeout(ANSWER_S):
                response = await self._answer(stack)
            kind, _, rest = response.headers.get("content-type", "").partition(";")
            kind = kind.strip().lower()
            if kind.startswith("multipart/"):
                self._stream = PictureStream(self.setup, stack.pop_all(), response.aiter_raw(), rest)
                return await self._stream.newest()
            taken = self.setup.clock.real_now()
            async with asyncio.timeout(ANSWER_S):
                body = await _whole(response)
        return self.setup.shot(check_jpeg(body, kind), taken)

    async def _answer(self, stack: AsyncExitStack) -> httpx.Response:
        """The answer of the camera, once it has let us in."""
        address = self.setup.address
        at = await self.setup.host()
        url = httpx.URL(address.url).copy_with(host=at)
        heads = {"Host": httpx.URL(address.url).netloc.decode()}
        for attempt in (1, 2):
            request = self._http.build_request("GET", url, headers=heads, extensions={"sni_hostname": address.host})
            response = await self._http.send(request, auth=self._auth, stream=True, follow_redirects=False)
            stack.push_async_callback(response.aclose)
            if response.status_code == 401 and attempt == 1 and address.login:
                self._auth = self._way_in(response.headers.get_list("www-authenticate"))
                await response.aclose()
                continue
            break
        _check_status(response, bool(address.login))
        return response

    def _way_in(self, offered: list[str]) -> httpx.Auth:
        """How to sign in: digest (RFC 7616) where the camera offers it, else basic (RFC 7617)."""
        address = self.setup.address
        digest = any(one.strip().lower().startswith("digest") for one in offered)
        return (httpx.DigestAuth if digest else httpx.BasicAuth)(address.login, address.password)

    async def _hang_up(self) -> None:
        stream, self._stream = self._stream, None
        if stream is not None:
            await stream.close()

    async def close(self) -> None:
        await self._hang_up()
        await self._http.aclose()


class PictureStream:
    """Reads a stream as fast as it comes, and has its newest picture."""

    def __init__(self, setup: CameraSetup, stack: AsyncExitStack, pieces: AsyncIterator[bytes], options: str) -> None:
        self._setup, self._stack = setup, stack
        self._fresh = asyncio.Event()
        self._newest: Shot | None = None
        self._reading = asyncio.create_task(self._read(pieces, boundary_of(options)))

    async def newest(self) -> Shot:
        """The newest picture that was not given yet. Raises CameraFailed, TimeoutError, httpx.HTTPError."""
        waiting = asyncio.create_task(self._fresh.wait())
        try:
            async with asyncio.timeout(NEXT_S):
                await asyncio.wait({waiting, self._reading}, return_when=asyncio.FIRST_COMPLETED)
        finally:
            await end([waiting])
        if self._newest is None:
            await self._reading
            raise CameraFailed("it ended its stream; is somebody else using it?")
        shot, self._newest = self._newest, None
        self._fresh.clear()
        return shot

    async def _read(self, pieces: AsyncIterator[bytes], boundary: bytes) -> None:
        async for body, began in parts(pieces, boundary, self._setup):
            self._newest = self._setup.shot(check_jpeg(body, ""), began)
            self._fresh.set()

    async def close(self) -> None:
        await end([self._reading])
        await self._stack.aclose()


def boundary_of(options: str) -> bytes:
    """What stands between the parts, from the Content-Type. Raises CameraFailed."""
    found = re.search(r'boundary\s*=\s*("?)([^";]{1,200})\1', options)
    if found is None:
        raise CameraFailed("its stream does not say what stands between its pictures (no boundary)")
    return found[2].strip().removeprefix("--").encode()


async def parts(
    pieces: AsyncIterator[bytes], boundary: bytes, setup: CameraSetup
) -> AsyncIterator[tuple[bytes, datetime]]:
    """The bodies of the parts of a stream, each with the real time when it began. Raises CameraFailed."""
    mark, held, began = b"--" + boundary, bytearray(), setup.clock.real_now()
    heads_end, length, searched = -1, None, 0
    async for piece in pieces:
        held += piece
        while True:
            if heads_end < 0:
                start = held.find(mark)
                heads_end = held.find(b"\r\n\r\n", start) if start >= 0 else -1
                if heads_end < 0:
                    if len(held) > HEADS:
                        raise CameraFailed("its stream holds no pictures; is the address right?")
                    break
                found = re.search(rb"content-length:\s*(\d{1,12})", bytes(held[start:heads_end]), re.IGNORECASE)
                length, began = int(found[1]) if found else None, setup.clock.real_now()
                del held[: heads_end + 4]
                searched = 0
            if length is not None:
                if length > LARGEST:
                    raise CameraFailed(_too_large(length))
                if len(held) < length:
                    break
                body, used = bytes(held[:length]), length
            else:
                at = held.find(b"\r\n" + mark, searched)
                if at < 0:
                    searched = max(0, len(held) - len(mark) - 2)
                    if len(held) > LARGEST:
                        raise CameraFailed(_too_large(len(held)))
                    break
                body, used = bytes(held[:at]), at
            del held[:used]
            heads_end = -1
            yield body, began


async def _whole(response: httpx.Response) -> bytes:
    announced = response.headers.get("content-length", "")
    if announced.isdigit() and int(announced) > LARGEST:
        raise CameraFailed(_too_large(int(announced)))
    body = bytearray()
    async for piece in response.aiter_bytes():
        body += piece
        if len(body) > LARGEST:
            raise CameraFailed(_too_large(len(body)))
    return bytes(body)


def check_jpeg(body: bytes, kind: str) -> bytes:
    """The bytes, if they are a JPEG. Raises CameraFailed."""
    if body.startswith(JPEG):
        return body
    what = f"{kind}" if kind and kind != "image/jpeg" else "something else"
    raise CameraFailed(f"what it sends is not a JPEG picture but {what}; is that the address of its pictures?")


def _too_large(size: int) -> str:
    return f"its picture has {size / 1e6:.0f} MB or more, and {LARGEST / 1e6:.0f} MB is the most; lower its resolution"


def _causes(error: BaseException) -> Iterator[BaseException]:
    """An error and all that led to it."""
    yield error
    inner = error.exceptions if isinstance(error, BaseExceptionGroup) else ()
    for cause in (*inner, error.__cause__ or error.__context__):
        if cause is not None:
            yield from _causes(cause)


def _check_status(response: httpx.Response, signed_in: bool) -> None:
    status = response.status_code
    if status == 401:
        do = "login or password is wrong" if signed_in else "it wants a login and a password; give them"
        raise CameraFailed(f"it answers 401: {do}")
    if 300 <= status < 400:
        to = response.headers.get("location", "elsewhere")[:200]
        raise CameraFailed(f"it sends on to {to}; give that address, if it is the camera's")
    if status != 200:
        raise CameraFailed(f"it answers {status} {response.reason_phrase}; is that the address of its pictures?")


def _why_not_connected(error: httpx.ConnectError) -> str:
    causes = list(_causes(error))
    if any(isinstance(cause, ConnectionRefusedError) for cause in causes):
        return "the connection is refused: nothing listens at that port"
    if any(isinstance(cause, ssl.SSLError) for cause in causes):
        return "no encrypted connection can be made; does it speak http:// only?"
    return f"it cannot be reached ({error}); is it switched on, is the address right?"
