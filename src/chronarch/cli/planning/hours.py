"""`chronarch hours`."""

from __future__ import annotations

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.cli.when import shop_time
from chronarch.client import requests
from chronarch.client import requests as calls
from chronarch.wire.planning import settings as ws
from chronarch.wire.upkeep.windows import NewUpkeep

DAY_NAMES = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


@click.group()
def hours() -> None:
    """When hands are there."""


@hours.command("show")
@json_option
@pass_service
def show_hours(service: Service, as_json: bool) -> None:
    """The hours of each site, and what machines are kept free for."""
    found = service.do(calls.hours())
    if as_json:
        return show_json(found)
    windows = service.do(calls.upkeep_windows())
    rows = []
    for site in found:
        for name, spans in zip(DAY_NAMES, site.week, strict=True):
            rows.append([site.site or "the shop", name, _spans(spans), ""])
        for day, spans in sorted(site.days.items()):
            rows.append([site.site or "the shop", f"{day:%a %d %b %Y}", _spans(spans), "differs"])
    show_table(("Site", "Day", "Staffed", ""), rows, "No hours are set: somebody is taken to be there always.")
    if windows:
        now = service.do(requests.shop()).now
        say()
        upkeep = [[str(u.id), u.machine, clock_time(u.begin, now), clock_time(u.end, now), u.text] for u in windows]
        show_table(("Upkeep", "Machine", "From", "Until", "What for"), upkeep, "")


def _spans(spans: list[ws.StaffedMinutes]) -> str:
    return ", ".join(f"{s.begin} to {s.end}" for s in spans) or "nobody"


@hours.command("set")
@click.argument("days")
@click.argument("spans", nargs=-1)
@click.option("--site", default="", help="The shop's own without it.")
@click.option("--people", type=click.IntRange(1, 50), help="Pairs of hands at once.")
@click.option("--zone", help="The site's time zone, like Europe/Lisbon.")
@pass_service
def set_hours(service: Service, days: str, spans: tuple[str, ...], site: str, people: int | None,
              zone: str | None) -> None:  # fmt: skip
    """Set the hours of DAYS (mon-fri, sat, or a date) to SPANS like 8:00-12:00 13:00-17:00; none: nobody is there."""
    found = {h.site: h for h in service.do(calls.hours())}
    now = found.get(site) or ws.SiteHours(site=site, week=[[] for _ in range(7)])
    rows = [_span(text) for text in spans]
    short = [d.lower() for d in DAY_NAMES]
    first, _, last = days.lower().partition("-")
    week, dates = list(now.week), dict(now.days)
    if first[:3] in short and (not last or last[:3] in short):
        a, b = short.index(first[:3]), short.index((last or first)[:3])
        for n in range(a, b + 1):
            week[n] = rows
    else:
        when = shop_time(service, days)
        assert when is not None
        dates[when.date()] = rows
    update = {"week": week, "days": dates, "people": people or now.people, "zone": zone or now.zone}
    service.do(calls.set_hours(now.model_copy(update=update)))
    shown = ", ".join(f"{s.begin} to {s.end}" for s in rows) or "nobody is there"
    say(f"{days}: {shown}.")


def _span(text: str) -> ws.StaffedMinutes:
    begin, _, end = text.partition("-")

    def clock(part: str) -> str:
        hours, _, minutes = part.strip().partition(":")
        return f"{hours.zfill(2)}:{minutes or '00'}"

    return ws.StaffedMinutes(begin=clock(begin), end=clock(end))


@hours.command("upkeep")
@click.argument("machine")
@click.argument("begin")
@click.argument("end")
@click.option("--text", default="")
@pass_service
def upkeep(service: Service, machine: str, begin: str, end: str, text: str) -> None:
    """Keep MACHINE free of builds from BEGIN to END."""
    a = shop_time(service, begin)
    assert a is not None
    from chronarch.cli.when import parse_when

    made = service.do(calls.add_upkeep_window(NewUpkeep(machine=machine, begin=a, end=parse_when(end, a), text=text)))
    now = service.do(requests.shop()).now
    span = f"{clock_time(made.begin, now)} to {clock_time(made.end, now)}"
    say(f"{made.machine} is kept free {span} (upkeep {made.id}).")


@hours.command("end-upkeep")
@click.argument("number", type=int)
@pass_service
def end_upkeep(service: Service, number: int) -> None:
    """Let a machine build in a span that was kept free; `hours show` has the numbers."""
    say(service.do(calls.remove_upkeep_window(number)).text)
