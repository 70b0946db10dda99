"""`chronarch report` and `chronarch ledger`."""

from __future__ import annotations

from datetime import datetime

import click

from chronarch.cli.context import REFUSED, Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_csv, show_json, show_table
from chronarch.cli.plain import hand_over, say
from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.wire.ledger.intervals import UsageRow

FORMATS = ["%Y-%m-%d", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M"]
REBUILD_WITHIN_S = 1800.0
SHOWN = (
    MachineState.WARMING,
    MachineState.BUILDING,
    MachineState.PAUSED,
    MachineState.COOLING,
    MachineState.UNCLEARED,
    MachineState.IDLE,
    MachineState.DOWN,
    MachineState.SERVICE,
    MachineState.OFFLINE,
)


@click.group()
def report() -> None:
    """Reports from the ledger."""


@click.group()
def ledger() -> None:
    """The ledger itself."""


@ledger.command()
@pass_service
def rebuild(service: Service) -> None:
    """Make the days that reports of long spans add up anew from the intervals. Machines work on meanwhile."""
    say(service.patient(requests.rebuild_ledger(), REBUILD_WITHIN_S).text)


@ledger.command()
@click.option("--machine", default="", help="Only this one.")
@json_option
@pass_service
def verify(service: Service, machine: str, as_json: bool) -> None:
    """Prove that the ledger is whole: intervals cover all time, builds lie within theirs, all is counted once. Machines
    work on meanwhile. Exits with 1 when something is wrong."""
    found = service.patient(requests.verify_ledger(machine), REBUILD_WITHIN_S)
    if as_json:
        show_json(found)
    else:
        say(
            f"{found.machines} machines, {found.intervals:,} intervals, {found.builds:,} builds, "
            f"{found.grams / 1000:,.2f} kg and {found.wh / 1000:,.2f} kWh in {found.took_s:.1f} s."
        )
        rows = [[one.machine, clock_time(one.at) if one.at else "", one.text] for one in found.faults]
        show_table(("Machine", "When", "Fault"), rows, "The ledger is whole.")
        if found.found > len(found.faults):
            say(f"And {found.found - len(found.faults):,} more.")
    if found.found:
        raise SystemExit(REFUSED)


@ledger.command("roll-up")
@click.option("--before", type=click.DateTime(["%Y-%m-%d"]), required=True, help="A day (UTC), over three years ago.")
@click.option("--do", is_flag=True, help="Do it; otherwise only say what it would come to.")
@json_option
@pass_service
def roll_up(service: Service, before: datetime, do: bool, as_json: bool) -> None:
    """Have days tell what intervals tell of long ago: how long machines were in each state on each day, no longer when.
    It cannot be undone. The figures before and after are shown."""
    found = service.patient(requests.roll_up_ledger(before.date(), do=do), REBUILD_WITHIN_S)
    if as_json:
        return show_json(found)
    say(
        f"Before {found.before}: {found.intervals_were:,} intervals of {found.machines} machines "
        f"{'are' if found.done else 'would be'} {found.intervals_are:,}."
    )
    rows = [
        [str(state), f"{found.hours_were[state]:,.3f} h", f"{found.hours_are[state]:,.3f} h"]
        for state in SHOWN if found.hours_were[state] or found.hours_are[state]
    ]  # fmt: skip
    show_table(("State", "Before", "After"), rows, "Nothing is that old.")
    if not do and rows:
        say("Nothing is changed yet; --do does it.")
    return None


@report.command()
@click.option("--from", "begin", type=click.DateTime(FORMATS), help="In your own zone; a week before --to without it.")
@click.option("--to", "end", type=click.DateTime(FORMATS), help="Now without it.")
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def utilisation(service: Service, begin: datetime | None, end: datetime | None, as_json: bool, as_csv: bool) -> None:
    """Each machine's share of time in each state, its builds, printing hours and filament."""
    begin, end = (at.astimezone() if at else None for at in (begin, end))
    if as_csv:
        return hand_over(service.do(requests.utilisation_csv(begin, end)).encode())
    found = service.do(requests.utilisation(begin, end))
    if as_json:
        return show_json(found)
    say(f"{found.begin.astimezone():%a %d %b %Y %H:%M} to {found.end.astimezone():%a %d %b %Y %H:%M}\n")
    shown = [s for s in SHOWN if found.fleet.seconds[s] > 0]
    headings = (
        "Machine",
        "Used",
        "Printing",
        *(s.capitalize() for s in shown),
        "Good",
        "Scrap",
        "Unjudged",
        "Filament",
    )
    rows = [_row(r, shown) for r in [*found.machines, found.fleet]]
    show_table(headings, rows, "There are no machines yet.")


@report.command()
@click.option("--from", "begin", type=click.DateTime(FORMATS), help="In your own zone; a week before --to without it.")
@click.option("--to", "end", type=click.DateTime(FORMATS), help="Now without it.")
@json_option
@pass_service
def turnaround(service: Service, begin: datetime | None, end: datetime | None, as_json: bool) -> None:
    """From the end of a build to the start of the next, by machine and by whether somebody was there."""
    begin, end = (at.astimezone() if at else None for at in (begin, end))
    found = service.do(requests.turnaround(begin, end))
    if as_json:
        return show_json(found)
    say(f"{found.begin.astimezone():%a %d %b %Y %H:%M} to {found.end.astimezone():%a %d %b %Y %H:%M}\n")
    rows = [
        [r.name, r.shift, str(r.gaps), f"{r.middle_min:.0f} min", f"{r.late_min:.0f} min", f"{r.lost_h:.1f} h"]
        for r in [*found.fleet, *found.machines]
        if r.gaps
    ]
    headings = ("Machine", "Ended while", "Builds", "Middle", "Nine of ten within", "In all")
    show_table(headings, rows, "No build followed another in this span.")


@report.command()
@click.option("--by", default="machine", show_default=True, help="Some of machine,day,state,build.")
@click.option("--from", "begin", type=click.DateTime(["%Y-%m-%d"]), help="Days are those of UTC.")
@click.option("--to", "end", type=click.DateTime(["%Y-%m-%d"]))
@click.option("--machine", default="")
@click.option("--build", type=int)
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def energy(service: Service, by: str, begin: datetime | None, end: datetime | None, machine: str, build: int | None,
           as_json: bool, as_csv: bool) -> None:  # fmt: skip
    """What machines drew, as their plugs measured it."""
    groups = [name.strip() for name in by.split(",")]
    first, last = (at.date() if at else None for at in (begin, end))
    found = service.do(requests.energy(groups, first, last, machine, build))
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(found)
    rows = [[str(getattr(r, name) or "none") for name in groups] + [f"{r.wh / 1000:.3f} kWh"] for r in found]
    headings = [*(name.capitalize() for name in groups), "Drawn"]
    show_table(headings, rows, "No plug has measured anything in this span.")


def _row(r: UsageRow, shown: list[MachineState]) -> list[str]:
    return [
        r.name,
        f"{r.utilisation:.1%}",
        f"{r.printing_h:.1f} h",
        *(f"{r.seconds[s] / r.recorded_s:.1%}" if r.recorded_s else "" for s in shown),
        str(r.good),
        str(r.scrap),
        str(r.unjudged),
        f"{r.grams:.0f} g",
    ]
