"""Groups of commands that several subjects add to."""

from __future__ import annotations

import click

from chronarch.cli.context import REFUSED, Service, fail
from chronarch.client import requests
from chronarch.core.library.names import as_number


@click.group()
def machines() -> None:
    """The machines: what they do now, hands on, intake, service."""


@click.group()
def builds() -> None:
    """Builds: pause, resume, change, stop, clear and judge."""


def build_number(service: Service, build: str) -> int:
    """A build's number; a machine's name stands for the build it has."""
    number = as_number(build)
    if number is not None:
        return number
    machine = service.do(requests.machine(build))
    if machine.build is None:
        fail(f"{machine.name} has no build.", REFUSED)
    assert machine.build is not None
    return machine.build.id
