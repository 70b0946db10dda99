"""Posting to an address that a person gave: only to where it was looked at, and without following redirects."""

from __future__ import annotations

import asyncio
import ipaddress
import socket
import ssl
from dataclasses import dataclass
from urllib.parse import urlsplit

import httpx

from chronarch.core.machines.reach import Ip, plain
from chronarch.service.notices.channels.sending import NotSent, Unsure
from chronarch.service.problems import ApiProblem

WITHIN_S = 10.0
LARGEST_ANSWER = 2000
TO_ITSELF = "leads to this computer or its own network link, which is not allowed here"


@dataclass(frozen=True)
class Posted:
    """What was answered."""

    status: int
    text: str
    location: str = ""

    @property
    def good(self) -> bool:
        return 200 <= self.status < 300

    @property
    def moved(self) -> bool:
        return 300 <= self.status < 400


@dataclass
class Poster:
    """`local`, where it is asked for: whether an address may lead to this computer."""

    _trusted: ssl.SSLContext | None = None
    """Whose certificates are trusted; reading them takes a while, so it is done once."""

    async def post(self, address: str, body: bytes, headers: dict[str, str], *, local: bool) -> Posted:
        """Raises NotSent, Unsure."""
        url = httpx.URL(address)
        at = await _allowed(url.host, url.port or (443 if url.scheme == "https" else 80), local)
        if self._trusted is None:
            self._trusted = await asyncio.to_thread(ssl.create_default_context)
        posting = httpx.AsyncClient(timeout=WITHIN_S, trust_env=False, verify=self._trusted)
        try:
            async with asyncio.timeout(2 * WITHIN_S), posting as client:
                request = client.build_request(
                    "POST", url.copy_with(host=at), content=body,
                    headers={**headers, "host": url.netloc.decode(), "user-agent": "chronarch"},
                    extensions={"sni_hostname": url.host},
                )  # fmt: skip
                response = await client.send(request, stream=True)
                text = await _beginning(response)
        except (httpx.ConnectError, httpx.ConnectTimeout) as error:
            raise NotSent(f"{url.host} cannot be reached: {error or 'no connection in time'}"[:250]) from None
        except (httpx.HTTPError, TimeoutError, OSError) as error:
            raise Unsure(f"{url.host} did not answer: {str(error) or 'not in time'}"[:250]) from None
        said = f"{response.status_code} {response.reason_phrase} {text}".strip()[:250]
        return Posted(response.status_code, said, response.headers.get("location", "")[:150])


async def _beginning(response: httpx.Response) -> str:
    """The first bytes of an answer; the rest is not read."""
    got = b""
    try:
        async for chunk in response.aiter_bytes():
            got += chunk
            if len(got) >= LARGEST_ANSWER:
                break
    finally:
        await response.aclose()
    return " ".join(got[:200].decode(errors="replace").split())


async def _allowed(host: str, port: int, local: bool) -> str:
    """The numeric address that a name stands for now; connecting to it is what was looked at. Raises NotSent."""
    try:
        async with asyncio.timeout(WITHIN_S):
            found = await _numeric(host, port)
    except (OSError, UnicodeError, TimeoutError) as error:
        raise NotSent(f"{host} is not known here: {error}"[:250]) from None
    if not local and any(map(_itself, found)):
        raise NotSent(f"{host} {TO_ITSELF}")
    return str(found[0])


async def _numeric(host: str, port: int | None) -> list[Ip]:
    found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
    return [plain(ipaddress.ip_address(str(where[0]).partition("%")[0])) for *_, where in found]


def _itself(ip: Ip) -> bool:
    return ip.is_loopback or ip.is_link_local or ip.is_unspecified or ip.is_multicast


def check_url(url: str, *, secure: bool = False) -> str:
    """Raises ApiProblem (422)."""
    try:
        parts = urlsplit(url)
        schemes = ("https",) if secure else ("http", "https")
        good = parts.scheme in schemes and parts.hostname and (parts.port or 1) and not parts.fragment
    except ValueError:
        good = False
    if not good or parts.username is not None:
        raise ApiProblem(422, "The address is a URL like https://example.org/prints, without sign-in in it.")
    return url


async def check_allowed(url: str, local: bool) -> None:
    """Refuse (422) an address that must not be asked. A name that is not known yet is allowed: it is looked at again
    before each message."""
    host = urlsplit(check_url(url)).hostname or ""
    if local:
        return
    try:
        found = await _numeric(host, None)
    except (OSError, UnicodeError):
        return
    if any(map(_itself, found)):
        raise ApiProblem(422, f"{host} {TO_ITSELF}; a maintainer can allow it in Set-up, Notices.")


def shown_url(url: str) -> str:
    """Without its query, which may hold a secret."""
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}{parts.path}{'?…' if parts.query else ''}"[:500]
