"""Ways to machines that are fed line by line, by the kind of their address."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass

from chronarch.core.control.firmware_info import SPEEDS
from chronarch.core.machines.address import Address
from chronarch.tender.transports.serial_port import SerialTransport, open_port
from chronarch.tender.transports.tcp import TcpTransport
from chronarch.tender.transports.transport import OnData, OnLost, Transport

CONNECT_S = 5.0


@dataclass(frozen=True)
class Way:
    """One way. `open` opens it: what the machine says goes to `on_data`, and `on_lost` is called once when the
    connection is gone. Raises OSError and TimeoutError."""

    open: Callable[[Address, OnData, OnLost], Awaitable[Transport]]
    has_speed: bool = False
    """Whether both ends must talk at one speed, which is found if the address does not say it."""


async def _open_tcp(address: Address, on_data: OnData, on_lost: OnLost) -> Transport:
    loop = asyncio.get_running_loop()
    async with asyncio.timeout(CONNECT_S):
        _, protocol = await loop.create_connection(lambda: TcpTransport(on_data, on_lost), address.host, address.port)
    return protocol


async def _open_serial(address: Address, on_data: OnData, on_lost: OnLost) -> Transport:
    port = await asyncio.to_thread(open_port, address, address.speed or SPEEDS[0])
    return SerialTransport(port, asyncio.get_running_loop(), on_data, on_lost)


WAYS = {
    "tcp": Way(_open_tcp),
    "serial": Way(_open_serial, has_speed=True),
    "rfc2217": Way(_open_serial, has_speed=True),
}
"""By the kind of an address; kinds without a row are not fed line by line."""
