"""`chronarch report changed` and `seen`: what has changed beyond chance."""

from __future__ import annotations

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.ledger.ledger import report
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.wire.ledger.change_points import ChangePoint

LOOK_WITHIN_S = 600.0


@report.command("changed")
@click.option("--now", is_flag=True, help="Look now; without it, what was found last night.")
@click.option("--over", is_flag=True, help="Also what is over.")
@json_option
@pass_service
def changed(service: Service, now: bool, over: bool, as_json: bool) -> None:
    """What has changed beyond chance: scrap and power of machines, success of parts, pace of models, turnaround."""
    if now:
        service.patient(requests.look_for_change_points(), LOOK_WITHIN_S)
    found = service.do(requests.change_points(over=over))
    if as_json:
        return show_json(found)
    if found.looked_at is None or found.looked_from is None:
        return say("Nobody has looked yet; that is done each night, or with --now.")
    head = ("Number", "Worth a look", "Since", "Builds", "Change", "By chance", "")
    none = "Nothing has changed beyond chance."
    show_table(head, [_row(one) for one in found.change_points], none)
    looked = f"{clock_time(found.looked_at)}, from {found.looked_from.astimezone():%d %b %Y} on: {found.series} series."
    say(f"Looked through {looked} Of the changes that are named at most {found.rate:.0%} are expected to be chance.")
    return None


@report.command("seen")
@click.argument("number", type=click.IntRange(1))
@click.option("--note", default="", help="What it is.")
@pass_service
def seen(service: Service, number: int, note: str) -> None:
    """Say that somebody has seen a change."""
    say(f"{service.do(requests.change_point_seen(number, note)).text}: seen.")


def _row(one: ChangePoint) -> list[str]:
    unit = (" points", 100.0) if one.unit == "share" else (" %", 100.0)
    size = f"{one.size * unit[1]:+.0f}{unit[0]} ({one.low * unit[1]:+.0f} to {one.high * unit[1]:+.0f})"
    counts = f"{one.counted_before} before, {one.counted_after} since"
    said = f"over {clock_time(one.over_at)}" if one.over_at else f"seen by {one.seen_by}" if one.seen_at else ""
    said += f": {one.note}" if one.note else ""
    return [str(one.id), one.text, clock_time(one.since), counts, size, f"1 in {1 / one.chance:,.0f}", said]
