"""`chronarch plan`."""

from __future__ import annotations

from typing import Any

import click

from chronarch.cli.context import Service, json_option
from chronarch.cli.orders.words import range_text
from chronarch.cli.output import clock_time, console, show_csv, show_json, show_table
from chronarch.cli.plain import FINITE, say
from chronarch.client import requests as calls
from chronarch.core.planning.snapshot import Strategy
from chronarch.wire.planning import settings as ws


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
    """How long work by hand takes, nozzles in the drawer and reasons for scrap: show them, or change what is named."""
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
