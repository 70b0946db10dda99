"""`chronarch health`."""

from __future__ import annotations

import click

from chronarch.cli.context import REFUSED, Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_facts, show_json, show_table
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
        rate = f", {found.rate:g} times as fast as real time" if found.rate != 1 else ""
        free = f"{found.disk_free / 1e9:.1f} of {found.disk_size / 1e9:.1f} GB free"
        show_facts(
            [
                ("Database", found.database.problem or f"answers in {found.database.answered_in_s * 1000:.0f} ms"),
                ("Disk", free),
                ("Shop time", f"{clock_time(found.shop_now)}{rate}"),
            ]
        )
        show_table(
            ("Tender", "Connected since", "Machines"),
            [[t.name, clock_time(t.since) if t.since else "away", str(t.machines)] for t in found.tenders],
            "There are no tenders yet.",
        )
        show_table(
            ("Worker", "Last done", "Lag", "Restarts"),
            [
                [w.name, clock_time(w.beat_at) if w.beat_at else "not yet", f"{w.lag_s:.2f} s", str(w.restarts)]
                for w in found.workers
            ],
            "",
        )
        for problem in found.problems or ["All is well."]:
            say(problem, fg="red" if found.problems else "green")
    if found.problems:
        raise SystemExit(REFUSED)
