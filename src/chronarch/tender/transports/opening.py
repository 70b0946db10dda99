"""Opens the way to a machine that an address names."""

from __future__ import annotations

import asyncio

from chronarch.core.control.firmware_info import SPEEDS
from chronarch.core.machines.address import Address
from chronarch.tender.transports.serial_port import SerialTransport, open_port
from chronarch.tender.transports.tcp import TcpTransport
from chronarch.tender.transports.transport import OnData, OnLost, Transport

CONNECT_S = 5.0


async def open_line(address: Address, on_data: OnData, on_lost: OnLost) -> Transport:
    """Open the way to a machine. What it says goes to `on_data`; `on_lost` is called once when the connection is gone.
    A serial address must say its speed. Raises OSError and TimeoutError."""
    loop = asyncio.get_running_loop()
    if address.kind == "tcp":
        connecting = loop.create_connection(lambda: TcpTransport(on_data, on_lost), address.host, address.port)
        async with asyncio.timeout(CONNECT_S):
            _, protocol = await connecting
        return protocol
    port = await asyncio.to_thread(open_port, address, address.speed or SPEEDS[0])
    return SerialTransport(port, loop, on_data, on_lost)
