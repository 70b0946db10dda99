"""`chronarch report worth`: is it worth a machine?"""

from __future__ import annotations

from datetime import datetime

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.ledger.ledger import FORMATS, report
from chronarch.cli.output import show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.wire.ledger.worth import MonthOutcome

WITHIN_S = 300.0


@report.command("worth")
@click.option("--from", "begin", type=click.DateTime(FORMATS), help="In your own zone; four weeks before --to without.")
@click.option("--to", "end", type=click.DateTime(FORMATS), help="Now without it.")
@json_option
@pass_service
def worth(service: Service, begin: datetime | None, end: datetime | None, as_json: bool) -> None:
    """Is it worth a machine? What work waited for, and what would have helped."""
    asked = requests.worth(begin and begin.astimezone(), end and end.astimezone())
    found = service.patient(asked, WITHIN_S)
    if as_json:
        return show_json(found)
    say(f"{found.begin.astimezone():%a %d %b %Y %H:%M} to {found.end.astimezone():%a %d %b %Y %H:%M}")
    say(found.answer)
    say("")
    rows = [
        ["as it was", *_cells(found.recorded)],
        ["as the planner would have had it", *_cells(found.planned)],
    ]
    rows += [[one.text, *_cells(one.outcome)] for one in found.scenarios]
    show_table(("", "Builds", "Wait each", "In time", "Beds waited"), rows, "")
    waits = f"machines {found.machines_h:,.0f} h, hands {found.hands_h:,.0f} h, something else {found.other_h:,.0f} h"
    say(f"Builds waited for {waits}.")
    return None


def _cells(one: MonthOutcome) -> list[str]:
    return [f"{one.builds:,}", f"{one.wait_h:.1f} h", f"{one.in_time} of {one.due}", f"{one.beds_h:,.0f} h"]
