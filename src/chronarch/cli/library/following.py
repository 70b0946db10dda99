"""What follows once a file was added: nothing, copies are queued, or one begins at once."""

from __future__ import annotations

from collections.abc import Callable

import click

from chronarch.wire import library as w


def follow_options(command: Callable[..., None]) -> Callable[..., None]:
    """Options that say it."""
    for option in (
        click.option("--start-on", default="", metavar="MACHINE", help="Begin at once on a machine that is idle."),
        click.option("--machine", default="", help="With --queue: only this machine."),
        click.option("--colour", default="", help="With --queue: any without it."),
        click.option("--material", default="", help="With --queue: any without it."),
        click.option("--copies", default=1, show_default=True, help="With --queue: how many."),
        click.option("--queue", is_flag=True, help="Queue copies of each at once."),
    ):
        command = option(command)
    return command


def queue_wish(queue: bool, copies: int, material: str, colour: str, machine: str, start_on: str) -> w.QueueWish | None:
    """What they ask for; None where a file is only added."""
    if not (queue or start_on):
        return None
    return w.QueueWish(copies=copies, material=material, colour=colour, machine=start_on or machine, now=bool(start_on))
