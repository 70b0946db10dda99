"""Where a host really is, looked up before each connection: a name may lead elsewhere than when it was set up."""

from __future__ import annotations

import asyncio
import ipaddress
import socket

from chronarch.core.machines.reach import no_device, plain
from chronarch.tender.peripherals.camera_sources.source import ANSWER_S, CameraFailed


async def find_host(host: str, port: int, keep_away: tuple[str, int]) -> str:
    """The numeric address to connect to. Raises CameraFailed when the name is not found, or leads where no camera is:
    to `keep_away` (host and port of the service), or to a cloud's metadata."""
    found = await _look_up(host, port)
    for ip in found:
        why = no_device(ip)
        if why:
            raise CameraFailed(f"{host} is {why}; no camera is there")
    if port == keep_away[1]:
        service = await _look_up(*keep_away)
        if set(found) & set(service) or (any(map(_local, found)) and any(map(_local, service))):
            raise CameraFailed("at that address is Chronarch itself, and no camera")
    return str(found[0])


def _local(ip: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    return ip.is_loopback or ip.is_unspecified


async def _look_up(host: str, port: int) -> list[ipaddress.IPv4Address | ipaddress.IPv6Address]:
    loop = asyncio.get_running_loop()
    try:
        async with asyncio.timeout(ANSWER_S):
            found = await loop.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        raise CameraFailed(f"the name {host} is not found; is it written right?") from None
    except TimeoutError:
        raise CameraFailed(f"the name {host} was not found within {ANSWER_S:.0f} s; does the network work?") from None
    return [plain(ipaddress.ip_address(str(where[0]).partition("%")[0])) for *_, where in found]
