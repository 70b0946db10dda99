"""`chronarch health`."""

from __future__ import annotations

from datetime import datetime

import click

from chronarch.cli.context import REFUSED, Service, json_option, pass_service
from chronarch.cli.output import clock_time, duration, show_facts, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests


@click.command()
@json_option
@pass_service
def health(service: Service, as_json: bool) -> None:
    """How the service itself is: database, disk, clocks, tenders, workers. Exit code 1 when something is wrong."""
    found = service.do(requests.health())
    if as_json:
        show_json(found)
    else:
        for problem in found.problems or ["All is well."]:
            say(problem, fg="red" if found.problems else "green")
        say("")
        rate = f", {found.rate:g} times as fast as real time" if found.rate != 1 else ""
        show_facts(
            [
                ("Database", found.database.problem or f"answers in {found.database.answered_in_s * 1000:.0f} ms"),
                ("Disk", f"{found.disk_free / 1e9:.1f} of {found.disk_size / 1e9:.1f} GB free"),
                ("Held up", f"{held.held_s * 1000:.0f} ms at most, by {held.where}" if (held := found.held) else ""),
                ("Shop time", f"{clock_time(found.shop_now)}{rate}"),
            ]
        )

        def since(at: datetime | None, never: str, words: str) -> str:
            return words.format(duration((found.real_now - at).total_seconds())) if at else never

        say("")
        show_table(
            ("Tender", "Connected", "Machines"),
            [[t.name, since(t.since, "away", "for {}"), str(t.machines)] for t in found.tenders],
            "There are no tenders yet.",
        )
        say("")
        show_table(
            ("Worker", "Last done", "Late by", "Restarts"),
            [
                [w.name, since(w.beat_at, "not yet", "{} ago"), f"{w.lag_s:.2f} s", str(w.restarts)]
                for w in found.workers
            ],
            "",
        )
    if found.problems:
        raise SystemExit(REFUSED)
