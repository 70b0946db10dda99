"""Fetches a sliced file from an address that a person gave: bounded in size, time and moves, and only from where a
device may be."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from email.message import Message
from pathlib import PurePosixPath
from urllib.parse import unquote

import httpx

from chronarch.service.config import Config
from chronarch.service.machines.reach import reachable_at
from chronarch.service.problems import ApiProblem

MOST_MOVES = 3
"""How often it may lead elsewhere."""
QUIET_S, WITHIN_S = 30.0, 900.0
"""How long nothing may come, and all of it may take."""
PAGES = ("text/html", "application/xhtml+xml")
SCHEMES = {"http": 80, "https": 443}


@asynccontextmanager
async def fetched(config: Config, address: str) -> AsyncIterator[tuple[str, AsyncIterator[bytes]]]:
    """What is at an address: the name that the file has there, and its bytes. Raises ApiProblem (413, 422, 502)."""
    trusted = await asyncio.to_thread(ssl.create_default_context)
    getting = httpx.AsyncClient(timeout=QUIET_S, trust_env=False, verify=trusted)
    try:
        async with asyncio.timeout(WITHIN_S), getting as client:
            response = await _opened(config, client, address)
            try:
                _check(config, response)
                yield _name(response), response.aiter_bytes()
            finally:
                await response.aclose()
    except httpx.HTTPError as error:
        raise ApiProblem(502, f"It could not be fetched: {str(error) or type(error).__name__}"[:300]) from None
    except TimeoutError:
        raise ApiProblem(
            502, f"It was not here within {WITHIN_S / 60:.0f} min. Fetch it yourself, and add it."
        ) from None


async def _opened(config: Config, client: httpx.AsyncClient, address: str) -> httpx.Response:
    for _ in range(MOST_MOVES + 1):
        url = _sound(address)
        at = await reachable_at(config, url.host, url.port or SCHEMES[url.scheme], "file")
        headers = {"host": url.netloc.decode(), "user-agent": "chronarch", "accept-encoding": "identity"}
        bare = url.copy_with(host=at, userinfo=b"")  # a login is said to the host alone, and to no log
        request = client.build_request("GET", bare, headers=headers, extensions={"sni_hostname": url.host})
        response = await client.send(request, stream=True, auth=(url.username, url.password) if url.userinfo else None)
        if not response.has_redirect_location:
            return response
        await response.aclose()
        address = str(url.join(response.headers["location"]))
    raise ApiProblem(422, f"The address leads elsewhere more than {MOST_MOVES} times. Give the file's own.")


def _sound(address: str) -> httpx.URL:
    try:
        url = httpx.URL(address)
    except httpx.InvalidURL:
        url = httpx.URL("")
    if url.scheme not in SCHEMES or not url.host:
        raise ApiProblem(422, "A file's address begins with http:// or https:// and names a host.")
    return url


def _check(config: Config, response: httpx.Response) -> None:
    """Raises ApiProblem for what is no file of a size that is taken."""
    if response.status_code != httpx.codes.OK:
        said = f"{response.status_code} {response.reason_phrase}".strip()
        raise ApiProblem(502, f"{response.url.host} answers {said}, and gives no file.")
    if response.headers.get("content-type", "").partition(";")[0].strip().lower() in PAGES:
        raise ApiProblem(422, "There is a web page at this address, and no file. Give the address of the file itself.")
    length = response.headers.get("content-length", "")
    if length.isascii() and length.isdigit() and int(length[:18]) > config.largest_file:
        raise ApiProblem(413, f"The file has {int(length[:18]):,} bytes; {config.largest_file:,} is the most.")


def _name(response: httpx.Response) -> str:
    """As the answer calls it, or else its address."""
    said = Message()
    said["content-disposition"] = response.headers.get("content-disposition", "")
    name = said.get_filename() or unquote(response.request.url.path)
    return PurePosixPath(name).name
