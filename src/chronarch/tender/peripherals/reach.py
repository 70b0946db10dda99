"""Where a host really is, looked up before each connection: a name may lead elsewhere than when it was set up."""

from __future__ import annotations

import asyncio
import ipaddress
import socket

from chronarch.core.machines.reach import no_device, plain

ANSWER_S = 5.0


class NoDevice(Exception):
    """At an address there can be no device, or its name is not found; the text says why."""


async def find_host(host: str, port: int, keep_away: tuple[str, int], what: str) -> str:
    """The numeric address to connect to. Raises NoDevice when the name is not found, or leads where no `what` is: to
    `keep_away` (host and port of the service), or to a cloud's metadata."""
    found = await _look_up(host, port)
    for ip in found:
        why = no_device(ip)
        if why:
            raise NoDevice(f"{host} is {why}; no {what} is there")
    if port == keep_away[1]:
        service = await _look_up(*keep_away)
        if set(found) & set(service) or (any(map(_local, found)) and any(map(_local, service))):
            raise NoDevice(f"at that address is Chronarch itself, and no {what}")
    return str(found[0])


def _local(ip: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    return ip.is_loopback or ip.is_unspecified


async def _look_up(host: str, port: int) -> list[ipaddress.IPv4Address | ipaddress.IPv6Address]:
    loop = asyncio.get_running_loop()
    try:
        async with asyncio.timeout(ANSWER_S):
            found = await loop.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        raise NoDevice(f"the name {host} is not found; is it written right?") from None
    except TimeoutError:
        raise NoDevice(f"the name {host} was not found within {ANSWER_S:.0f} s; does the network work?") from None
    return [plain(ipaddress.ip_address(str(where[0]).partition("%")[0])) for *_, where in found]
