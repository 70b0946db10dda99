"""`chronarch tender`: run a tender."""

from __future__ import annotations

import asyncio
import logging
import signal
from pathlib import Path

import click

from chronarch.core.clock import Clock, parse_clock
from chronarch.tender.app import TenderSettings, run_tender


@click.group()
def tender() -> None:
    """The tender: minds machines and feeds them their builds."""


@tender.command()
@click.option("--name", default="tender", show_default=True, help="This tender's name, as its machines have it.")
@click.option("--service", "address", default="http://127.0.0.1:8420", show_default=True, envvar="CHRONARCH_ADDRESS")
@click.option("--key", envvar="CHRONARCH_TENDER_KEY", required=True, help="A key of scope tender.")
@click.option("--folder", type=click.Path(path_type=Path), default=Path("var/tender"), show_default=True)
@click.option("--clock", envvar="CHRONARCH_CLOCK", default="", help="Shop time as REAL|SHOP|RATE.")
def run(name: str, address: str, key: str, folder: Path, clock: str) -> None:
    """Run until stopped. Builds go on while the service is away."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    logging.getLogger("httpx").setLevel(logging.WARNING)
    try:
        shop_clock = parse_clock(clock)
    except ValueError as error:
        raise click.UsageError(str(error)) from None
    asyncio.run(_run(TenderSettings(name, address.rstrip("/"), key, folder), shop_clock))


async def _run(settings: TenderSettings, clock: Clock) -> None:
    task = asyncio.current_task()
    assert task is not None
    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, task.cancel)
    await run_tender(settings, clock)
