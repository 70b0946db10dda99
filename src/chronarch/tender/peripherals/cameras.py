"""Fetches frames from a machine's camera and hands them on."""

from __future__ import annotations

import asyncio
import logging

import httpx

from chronarch.client import AsyncClient, ClientError

LARGEST = 4_000_000
log = logging.getLogger("chronarch.camera")


async def snapshot(http: httpx.AsyncClient, url: str) -> bytes | None:
    """One JPEG from a snapshot address; None when there is none, or it is no JPEG."""
    body = bytearray()
    try:
        async with asyncio.timeout(5), http.stream("GET", url) as response:
            if response.status_code != 200:
                return None
            async for chunk in response.aiter_bytes():
                body += chunk
                if len(body) > LARGEST:
                    return None
    except (httpx.HTTPError, TimeoutError):
        return None
    return bytes(body) if body.startswith(b"\xff\xd8\xff") else None


async def watch_camera(machine: str, url: str, every_s: float, client: AsyncClient) -> None:
    """Hand on a frame every `every_s` real seconds. A camera that fails is tried again without a word."""
    async with httpx.AsyncClient(trust_env=False, timeout=5) as http:
        while True:
            frame = await snapshot(http, url)
            if frame is not None:
                try:
                    await client.put_frame(machine, frame)
                except ClientError as error:
                    log.debug("frame of %s not handed on: %s", machine, error)
            await asyncio.sleep(every_s)
