"""Finds machines from where a tender runs: those that announce themselves on the network, serial ports by their stable
names, and those that report at a broker. Nothing is opened, so nothing that builds is disturbed."""

from __future__ import annotations

import asyncio
import json
import os
from collections.abc import Awaitable, Callable
from pathlib import Path

import aiomqtt
from serial.tools import list_ports
from zeroconf import InterfaceChoice, ServiceStateChange, Zeroconf
from zeroconf.asyncio import AsyncServiceBrowser, AsyncServiceInfo, AsyncZeroconf

from chronarch.core.machines.address import broker_link, parse_address
from chronarch.core.machines.announced import SERVICE_TYPE, announced_link
from chronarch.core.plain import plain
from chronarch.wire.machines.finding import Found, Look, Looked

STABLE = Path("/dev/serial/by-id")
MOST = 1000
BROKER_NAME = "chronarch-finding"
REPORT = "chronarch/machines/+/presence"


async def find(look: Look) -> Looked:
    """Look in all ways at once, for so long."""
    ways: dict[str, Callable[[], Awaitable[list[Found]]]] = {
        "network": lambda: announced(look.within_s),
        "serial ports": lambda: asyncio.to_thread(serial_ports),
    }
    if look.link:
        ways["broker"] = lambda: at_broker(look.link, look.within_s)
    results = await asyncio.gather(*(way() for way in ways.values()), return_exceptions=True)
    looked = Looked()
    for way, result in zip(ways, results, strict=True):
        if isinstance(result, BaseException):
            looked.troubles.append(f"{way}: {plain(str(result) or type(result).__name__)}"[:200])
        else:
            looked.found += result[:MOST]
    return looked


async def announced(within_s: float) -> list[Found]:
    """Machines that announce themselves on the networks of this computer, and on itself. Raises OSError."""
    zeroconf = AsyncZeroconf(interfaces=InterfaceChoice.All)
    names: set[str] = set()

    def heard(zeroconf: Zeroconf, service_type: str, name: str, state_change: ServiceStateChange) -> None:
        if state_change is not ServiceStateChange.Removed and len(names) < MOST:
            names.add(name)

    try:
        browser = AsyncServiceBrowser(zeroconf.zeroconf, [SERVICE_TYPE], handlers=[heard])
        await asyncio.sleep(within_s)
        await browser.async_cancel()
        found = await asyncio.gather(*(_resolved(zeroconf, name) for name in sorted(names)))
    finally:
        await zeroconf.async_close()
    return [one for one in found if one is not None]


async def _resolved(zeroconf: AsyncZeroconf, name: str) -> Found | None:
    info = AsyncServiceInfo(SERVICE_TYPE, name)
    if not await info.async_request(zeroconf.zeroconf, 2000):
        return None
    says = {key: plain(value or "")[:200] for key, value in info.decoded_properties.items()}
    hosts = info.parsed_scoped_addresses()
    host = next((one for one in hosts if ":" not in one), hosts[0] if hosts else "")
    link = announced_link(host, info.port or 0, says)
    if link is None:
        return None
    own = plain(name.removesuffix(f".{SERVICE_TYPE}"))[:60]
    return Found(
        link=link, how="network", name=own, model=says.get("model", "")[:60], serial=says.get("serial", "")[:60],
        about=says.get("maker", "")[:60],
    )  # fmt: skip


def serial_ports() -> list[Found]:
    """Serial ports at which a device hangs, by the name that it keeps in whichever socket it is."""
    stable = {path.resolve(): path for path in _links(Path(os.environ.get("CHRONARCH_SERIAL_BY_ID") or STABLE))}
    found = [Found(link=f"serial://{path}", how="serial", about=path.name[:200]) for path in sorted(stable.values())]
    for port in list_ports.comports():
        if port.vid is None or Path(port.device).resolve() in stable:
            continue  # a port of the board itself, or one that has a stable name
        about = plain(" ".join(filter(None, (port.manufacturer, port.product))))[:200]
        found.append(
            Found(
                link=f"serial://{port.device}", how="serial", serial=plain(port.serial_number or "")[:60], about=about
            )
        )
    return found


def _links(folder: Path) -> list[Path]:
    try:
        return [path for path in folder.iterdir() if path.exists()]
    except OSError:
        return []


async def at_broker(link: str, within_s: float) -> list[Found]:
    """Machines that report at a broker, whose address `link` is. Raises OSError, MqttError."""
    address = parse_address(broker_link(link, "any"))
    tls = aiomqtt.TLSParameters(ca_certs=address.ca or None) if address.scheme.tls else None
    here: dict[str, bool] = {}

    async def listen() -> None:
        async with aiomqtt.Client(
            address.host, address.port, username=address.user or None, password=address.password or None,
            tls_params=tls, identifier=f"{BROKER_NAME}-{os.getpid()}", protocol=aiomqtt.ProtocolVersion.V5,
        ) as client:  # fmt: skip
            await client.subscribe(REPORT, qos=0)
            async for message in client.messages:
                name = str(message.topic).split("/")[2]
                try:
                    here[name[:60]] = bool(json.loads(bytes(message.payload))["here"])
                except (ValueError, KeyError, TypeError):
                    continue
                if len(here) >= MOST:
                    return

    try:
        async with asyncio.timeout(within_s):
            await listen()
    except TimeoutError:
        pass
    return [
        Found(link=broker_link(link, name), how="broker", name=plain(name)[:60], about="" if there else "away now")
        for name, there in sorted(here.items())
    ]
