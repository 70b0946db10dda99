"""`chronarch plan`, `what-if` and `hours`."""

from __future__ import annotations

from typing import Any

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.orders import promise_text, range_text
from chronarch.cli.output import clock_time, console, make_table, show_csv, show_json, show_table
from chronarch.cli.plain import FINITE, say
from chronarch.cli.when import shop_time
from chronarch.client import planning as calls
from chronarch.client import requests
from chronarch.core.dispatch.shop import Strategy
from chronarch.core.names import as_number
from chronarch.wire import plan as w
from chronarch.wire import shop as ws

DAY_NAMES = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


@click.group(invoke_without_command=True)
@click.option("--machine", help="Only this machine's.")
@click.option("--limit", default=30, show_default=True)
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@click.pass_context
def plan(ctx: click.Context, machine: str | None, limit: int, as_json: bool, as_csv: bool) -> None:
    """What each machine does next, when, and why."""
    if ctx.invoked_subcommand is not None:
        return
    service = ctx.ensure_object(Service)
    found = service.do(calls.plan())
    builds = [b for b in found.builds if machine is None or b.machine.lower() == machine.lower()]
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(builds)
    console().print(f"{found.strategy}: {found.meaning}\n", markup=False)
    rows = [
        [
            b.machine, str(b.job), b.what, clock_time(b.start.likely, found.at), range_text(b.end, found.at),
            " and ".join(x for x in (b.load, b.nozzle) if x), b.why,
        ]
        for b in builds[:limit]
    ]  # fmt: skip
    show_table(("Machine", "Job", "What", "Starts", "Ends", "First", "Why"), rows, "Nothing waits.")
    if len(builds) > limit:
        say(f"… and {len(builds) - limit} more; --limit shows them.")
    for m in found.machines:
        if m.idle and (machine is None or m.machine.lower() == machine.lower()):
            say(f"{m.machine} is idle: {m.idle}")
    for c in found.conflicts:
        say(c.text + ".")


@plan.command("strategy")
@click.argument("name", type=click.Choice([s.value for s in Strategy]), required=False)
@click.pass_context
def strategy(ctx: click.Context, name: str | None) -> None:
    """How the next build is chosen: show the strategies and what each means, or choose one."""
    service = ctx.ensure_object(Service)
    if name is None:
        now = service.do(calls.planning())
    else:
        now = service.do(calls.change_planning(ws.PlanningUpdate(strategy=Strategy(name))))
    for s in service.do(calls.strategies()):
        say(f"{'*' if s.strategy is now.strategy else ' '} {s.strategy:12} {s.meaning}")


@plan.command("settings")
@click.option("--clear", type=FINITE, metavar="MIN", help="To clear a bed.")
@click.option("--spool", type=FINITE, metavar="MIN", help="To change a spool.")
@click.option("--nozzle", type=FINITE, metavar="MIN", help="To change a nozzle.")
@click.option("--walk", type=FINITE, metavar="MIN", help="From a bed being ready until somebody is at it, usually.")
@click.option("--spare", "spares", multiple=True, metavar="NOZZLE", help="In the drawer: 0.6, or '0.4 hardened'; none.")
@click.option("--scrap-reason", "reasons", multiple=True, help="All reasons there are, each with its own option.")
@json_option
@click.pass_context
def settings(ctx: click.Context, clear: float | None, spool: float | None, nozzle: float | None, walk: float | None,
             spares: tuple[str, ...], reasons: tuple[str, ...], as_json: bool) -> None:  # fmt: skip
    """What hands take, nozzles in the drawer and reasons for scrap: show them, or change what is named."""
    service = ctx.ensure_object(Service)
    minutes = {"clear_min": clear, "spool_min": spool, "nozzle_min": nozzle, "walk_min": walk}
    change: dict[str, Any] = {key: value for key, value in minutes.items() if value is not None}
    if spares:
        change["spare_nozzles"] = [] if spares == ("none",) else [_nozzle(text) for text in spares]
    if reasons:
        change["scrap_reasons"] = list(reasons)
    now = service.do(calls.change_planning(ws.PlanningUpdate(**change)) if change else calls.planning())
    if as_json:
        return show_json(now)
    spare = ", ".join(f"{'hardened ' if n.hardened else ''}{n.nozzle_mm:g} mm" for n in now.spare_nozzles)
    rows = [
        ["to clear a bed", f"{now.clear_min:g} min"],
        ["to change a spool", f"{now.spool_min:g} min"],
        ["to change a nozzle", f"{now.nozzle_min:g} min"],
        ["until somebody is there", f"{now.walk_min:g} min"],
        ["nozzles in the drawer", spare or "none"],
        ["reasons for scrap", ", ".join(now.scrap_reasons)],
    ]
    show_table(("What", "How"), rows, "")


def _nozzle(text: str) -> ws.SpareNozzle:
    size, _, kind = text.partition(" ")
    try:
        if kind not in ("", "hardened"):
            raise ValueError
        return ws.SpareNozzle(nozzle_mm=float(size), hardened=bool(kind))
    except ValueError:
        raise click.UsageError(f"{text!r} is no nozzle; say 0.6, or '0.4 hardened'.") from None


@click.command("what-if")
@click.option("--order", type=int, help="This order, due --by.")
@click.option("--job", type=int, help="This job, due --by.")
@click.option("--by", help="When it is to be due: fri 12:00, 2026-10-23 12:00.")
@click.option("--with", "works", metavar="MACHINE", multiple=True, help="This machine in work.")
@click.option("--without", metavar="MACHINE", multiple=True, help="This machine out of work.")
@click.option("--staffed", nargs=2, metavar="FROM TO", multiple=True, help="Somebody there, too: 'sat 9:00' 13:00.")
@click.option("--more", nargs=2, metavar="MANY LIKE", multiple=True, help="More machines like one, or of a model.")
@click.option("--strategy", type=click.Choice([s.value for s in Strategy]))
@json_option
@pass_service
def what_if(service: Service, order: int | None, job: int | None, by: str | None, works: tuple[str, ...],
            without: tuple[str, ...], staffed: tuple[tuple[str, str], ...], more: tuple[tuple[str, str], ...],
            strategy: str | None, as_json: bool) -> None:  # fmt: skip
    """What would happen if: both plans side by side. Nothing of the shop changes."""
    changes: list[Any] = []
    if (order is not None or job is not None) != (by is not None):
        raise click.UsageError("Say which order (or job) and --by when: --order 3 --by 'fri 12:00'.")
    if by is not None:
        due = shop_time(service, by)
        assert due is not None
        changes.append(w.IfDue(order=order, job=job, due=due))
    changes += [w.IfMachine(machine=name, works=True) for name in works]
    changes += [w.IfMachine(machine=name, works=False) for name in without]
    for begin, end in staffed:
        a = shop_time(service, begin)
        assert a is not None
        from chronarch.cli.when import parse_when

        changes.append(w.IfStaffed(begin=a, end=parse_when(end, a)))
    for many, like in more:
        machines = as_number(many)
        if machines is None:
            raise click.UsageError(f"--more says how many first: --more 2 '{like}'; {many!r} is no number.")
        changes.append(w.IfMore(like=like, many=machines))
    if strategy is not None:
        changes.append(w.IfStrategy(strategy=Strategy(strategy)))
    if not changes:
        raise click.UsageError("Say what would be otherwise: --order 3 --by …, --with, --without, --staffed, --more.")
    found = service.do(calls.what_if(w.WhatIf(changes=changes)))
    if as_json:
        return show_json(found)
    say(f"{found.question}\n{found.answer}\n")
    then = {(o.order, o.job): o for o in found.then.orders}
    rows: list[list[str | Text]] = []
    for o in found.now.orders:
        t = then.get((o.order, o.job), o)
        name = f"order {o.order}, {o.name}" if o.order else f"job {o.job}, {o.name}"
        rows.append(
            [name, _due(o, t), range_text(o.expected), promise_text(o.promise), range_text(t.expected),
             promise_text(t.promise)]
        )  # fmt: skip
    console().print(make_table(("", "Due", "As it is", "", "Then", ""), rows))
    before, after = found.now, found.then
    facts = [
        ["In time", f"{before.in_time} of {before.due}", f"{after.in_time} of {after.due}"],
        ["All done", _all_done(before), _all_done(after)],
        ["Productive, next 7 days", f"{before.productive:.1%}", f"{after.productive:.1%}"],
        ["Spools and nozzles to change", str(before.changes), str(after.changes)],
    ]
    console().print(make_table(("", "As it is", "Then"), facts))


def _due(now: w.OrderOutlook, then: w.OrderOutlook) -> str:
    """When something is due; and when it would be, where that is otherwise."""
    asked = "" if then.due == now.due else f"asked for {clock_time(then.due)}"
    return ", ".join(filter(None, (clock_time(now.due), asked)))


def _all_done(o: w.Outlook) -> str:
    jobs = "1 job" if o.cannot == 1 else f"{o.cannot} jobs"
    but = f"but for {jobs} that no machine can make" if o.cannot else ""
    return ", ".join(filter(None, (clock_time(o.ready) or "nothing waits", but)))


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


def _spans(spans: list[ws.Staffed]) -> str:
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


def _span(text: str) -> ws.Staffed:
    begin, _, end = text.partition("-")

    def clock(part: str) -> str:
        hours, _, minutes = part.strip().partition(":")
        return f"{hours.zfill(2)}:{minutes or '00'}"

    return ws.Staffed(begin=clock(begin), end=clock(end))


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

    made = service.do(
        calls.add_upkeep_window(ws.UpkeepOrder(machine=machine, begin=a, end=parse_when(end, a), text=text))
    )
    now = service.do(requests.shop()).now
    span = f"{clock_time(made.begin, now)} to {clock_time(made.end, now)}"
    say(f"{made.machine} is kept free {span} (upkeep {made.id}).")


@hours.command("end-upkeep")
@click.argument("number", type=int)
@pass_service
def end_upkeep(service: Service, number: int) -> None:
    """Let a machine build in a span that was kept free; `hours show` has the numbers."""
    say(service.do(calls.remove_upkeep_window(number)).text)
