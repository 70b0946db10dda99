"""`chronarch tender`: run a tender. Each command is a process of its own and imports only what it needs."""

from __future__ import annotations

import asyncio
import signal
import sys
import time
from pathlib import Path

import click

from chronarch.core.clock import parse_clock
from chronarch.logs import begin_logging


@click.group()
def tender() -> None:
    """The tender: minds machines and feeds them their builds."""


@tender.command()
@click.option("--name", default="tender", show_default=True, help="This tender's name, as its machines have it.")
@click.option("--service", "address", default="http://127.0.0.1:8420", show_default=True, envvar="CHRONARCH_ADDRESS")
@click.option("--key", envvar="CHRONARCH_TENDER_KEY", default="", help="A key of scope tender.")
@click.option(
    "--key-file", type=click.Path(path_type=Path), envvar="CHRONARCH_TENDER_KEY_FILE", help="Holds it; waited for."
)
@click.option(
    "--folder",
    type=click.Path(path_type=Path),
    default=Path("var/tender"),
    envvar="CHRONARCH_TENDER_FOLDER",
    show_default=True,
)
@click.option("--clock", envvar="CHRONARCH_CLOCK", default="", help="Shop time as REAL|SHOP|RATE.")
def run(name: str, address: str, key: str, key_file: Path | None, folder: Path, clock: str) -> None:
    """Run until stopped. Builds go on while the service is away."""
    import uvloop

    from chronarch.tender.journal import InUse
    from chronarch.tender.priority import feed_first
    from chronarch.tender.session import TenderSettings, run_tender

    async def until_stopped() -> None:
        task = asyncio.current_task()
        assert task is not None
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, task.cancel)
        await run_tender(TenderSettings(name, address.rstrip("/"), key, folder, clock), shop_clock)

    begin_logging()
    if not key and key_file is None:
        raise click.UsageError("Give a key of scope tender: --key, or --key-file.")
    while not key and key_file is not None:
        if key_file.exists():
            key = key_file.read_text().strip()
        else:  # the service of this computer makes it at its first start
            time.sleep(0.5)
    feed_first()
    try:
        shop_clock = parse_clock(clock)
    except ValueError as error:
        raise click.UsageError(str(error)) from None
    try:
        uvloop.run(until_stopped())
    except InUse as error:
        raise click.ClickException(str(error)) from None


@tender.command(hidden=True)
@click.option("--service", "address", envvar="CHRONARCH_ADDRESS", required=True)
@click.option("--key", envvar="CHRONARCH_TENDER_KEY", required=True)
def background(address: str, key: str) -> None:
    """Work beside the feeding; the tender starts this itself."""
    from chronarch.tender.background import run_background

    begin_logging()
    asyncio.run(run_background(address, key, sys.stdin))


@tender.command(hidden=True)
@click.option("--name", required=True)
@click.option("--service", "address", envvar="CHRONARCH_ADDRESS", required=True)
@click.option("--key", envvar="CHRONARCH_TENDER_KEY", required=True)
@click.option("--clock", default="")
@click.option("--folder", type=click.Path(path_type=Path), required=True)
def cameras(name: str, address: str, key: str, clock: str, folder: Path) -> None:
    """Watch the tender's cameras; the tender starts this itself."""
    from chronarch.tender.peripherals.camera_process import CameraService, run_cameras

    begin_logging()
    asyncio.run(run_cameras(CameraService(address, key, name), parse_clock(clock), folder / "frames", sys.stdin))
