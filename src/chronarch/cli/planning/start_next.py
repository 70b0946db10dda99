"""`chronarch machines start-next`."""

from __future__ import annotations

import click

from chronarch.cli.context import Service, pass_service
from chronarch.cli.groups import machines
from chronarch.cli.plain import say
from chronarch.client import requests


@machines.command("start-next")
@click.argument("name")
@click.option("--job", type=int, help="A copy of this job; without it, of the next that fits.")
@pass_service
def start_next(service: Service, name: str, job: int | None) -> None:
    """Start the next waiting copy that fits, whatever the intake."""
    say(service.do(requests.start_next(name) if job is None else requests.start_job(name, job)).text)
