"""`chronarch machines frame`."""

from __future__ import annotations

from pathlib import Path

import click

from chronarch.cli.context import Service, pass_service
from chronarch.cli.groups import machines
from chronarch.cli.plain import say
from chronarch.client import requests


@machines.command()
@click.argument("name")
@click.option("--out", type=click.Path(dir_okay=False, path_type=Path), help="Where to put it; NAME.jpg without it.")
@pass_service
def frame(service: Service, name: str, out: Path | None) -> None:
    """Save the newest camera frame."""
    data = service.do(requests.frame(name))
    path = out or Path(f"{name}.jpg")
    path.write_bytes(data)
    say(f"{path}, {len(data)} bytes")
