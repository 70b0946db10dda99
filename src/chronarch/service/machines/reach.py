"""Where addresses of machines and cameras may point. The service itself, its database, and addresses where no device
can be are refused, so that nobody can reach them through a tender."""

from __future__ import annotations

import asyncio
import ipaddress
import socket
from contextlib import suppress

from sqlalchemy.engine import make_url

from chronarch.core.machines.reach import Ip, no_device, plain
from chronarch.service.config import Config
from chronarch.service.problems import ApiProblem

RESOLVED_WITHIN_S = 3.0
DATABASE_PORT = 3306


async def check_reach(settings: Config, host: str, port: int, what: str) -> None:
    """Refuse (422) an address for a `what` that belongs to no device. A name that is not known here may be known where
    the tender is, and is allowed."""
    await _checked(settings, host, port, what)


async def reachable_at(settings: Config, host: str, port: int, what: str) -> str:
    """The numeric address of a host, which was looked at; connecting to it leads nowhere else. Raises ApiProblem
    (422)."""
    at = await _checked(settings, host, port, what)
    if not at:
        raise ApiProblem(422, f"{host} is not known here; is it written rightly?")
    return str(min(at, key=lambda ip: (ip.version, ip)))


async def _checked(settings: Config, host: str, port: int, what: str) -> set[Ip]:
    """Raises ApiProblem (422)."""
    at = await _addresses(host, port)
    why = next((why for ip in at if (why := no_device(ip))), "")
    if why:
        raise ApiProblem(422, f"{host} is {why}; give the {what} one of its own.")
    own = [("service itself", "127.0.0.1", settings.port)]
    if settings.database:
        url = make_url(settings.database)
        own.append(("database of this service", url.host or "127.0.0.1", url.port or DATABASE_PORT))
    for name, its_host, its_port in own:
        if port == its_port and _same_place(at, await _addresses(its_host, its_port)):
            raise ApiProblem(422, f"At {host}:{port} is the {name}, and no {what}.")
    return at


async def _addresses(host: str, port: int) -> set[Ip]:
    """The numeric addresses of a host; none when it is not known here."""
    with suppress(OSError, UnicodeError, TimeoutError):
        async with asyncio.timeout(RESOLVED_WITHIN_S):
            loop = asyncio.get_running_loop()
            found = await loop.getaddrinfo(host, port, type=socket.SOCK_STREAM)
            return {plain(ipaddress.ip_address(str(where[0]).partition("%")[0])) for *_, where in found}
    return set()


def _same_place(some: set[Ip], others: set[Ip]) -> bool:
    return bool(some & others) or (any(map(_is_here, some)) and any(map(_is_here, others)))


def _is_here(ip: Ip) -> bool:
    """Whether an address is this computer's: it is, if something can be bound to it."""
    if ip.is_loopback or ip.is_unspecified:
        return True
    family = socket.AF_INET if ip.version == 4 else socket.AF_INET6
    with suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as probe:
        probe.bind((str(ip), 0))
        return True
    return False
