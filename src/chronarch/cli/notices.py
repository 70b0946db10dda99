"""`chronarch notices`."""

from __future__ import annotations

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests


@click.group()
def notices() -> None:
    """What people should know."""


@notices.command("list")
@click.option("--all", "seen", is_flag=True, help="Those already seen too.")
@click.option("--limit", type=click.IntRange(min=1), default=100, show_default=True, help="At most so many.")
@json_option
@pass_service
def list_notices(service: Service, seen: bool, limit: int, as_json: bool) -> None:
    """Notices, newest first."""
    found = service.all(requests.notices(seen), limit)
    if as_json:
        return show_json(found)
    rows: list[list[str | Text]] = [
        [str(n.id), clock_time(n.at), Text(n.severity, style="bold red" if n.severity == "alarm" else "dim"), n.text]
        for n in found
    ]
    show_table(("Id", "When", "Kind", "Notice"), rows, "Nothing new.")


@notices.command("seen")
@pass_service
def seen(service: Service) -> None:
    """Mark all notices as seen."""
    found = service.all(requests.notices())
    if found:
        service.do(requests.all_seen(found[0].id))
    say(f"{len(found)} marked as seen.")
