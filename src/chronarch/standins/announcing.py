"""Says on this computer's own network that machines are there, as machines on a real one do (DNS-SD, RFC 6763)."""

from __future__ import annotations

import socket

from zeroconf import IPVersion, ServiceInfo
from zeroconf.asyncio import AsyncZeroconf

from chronarch.standins.machine import Setup

TYPE = "_chronarch-link._tcp.local."
HERE = "127.0.0.1"


class Announcing:
    """On loopback alone: simulated machines are nobody else's."""

    def __init__(self, setups: list[Setup]) -> None:
        self._setups = setups
        self._zeroconf: AsyncZeroconf | None = None

    async def start(self) -> None:
        if not self._setups:
            return
        self._zeroconf = AsyncZeroconf(interfaces=[HERE], ip_version=IPVersion.V4Only)
        for setup in self._setups:
            says = {
                "link": "rfc2217" if setup.rfc2217 else "tcp",
                "model": setup.model,
                "serial": f"{setup.name}-{setup.seed:04}",
            }
            info = ServiceInfo(
                TYPE, f"{setup.name}.{TYPE}", setup.port, addresses=[socket.inet_aton(HERE)], properties=says
            )
            await self._zeroconf.async_register_service(info, allow_name_change=True)

    async def stop(self) -> None:
        if self._zeroconf is not None:
            await self._zeroconf.async_close()
