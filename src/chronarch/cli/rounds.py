"""`chronarch rounds` and `spools`: what hands must do at the machines, and what they load."""

from __future__ import annotations

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_csv, show_json, show_table
from chronarch.cli.plain import FINITE, say
from chronarch.client import planning as calls
from chronarch.wire import plan as w
from chronarch.wire import shop as ws


@click.group(invoke_without_command=True)
@click.option("--site", help="Only this site.")
@click.option("--walk", is_flag=True, help="In the order of one walk instead of the most costly first.")
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@click.pass_context
def rounds(ctx: click.Context, site: str | None, walk: bool, as_json: bool, as_csv: bool) -> None:
    """What hands must do, soonest first, what waiting costs, and what comes."""
    if ctx.invoked_subcommand is not None:
        return
    found = ctx.ensure_object(Service).do(calls.rounds(site))
    tasks = sorted(found.tasks, key=lambda t: t.walk) if walk else found.tasks
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(tasks)
    rows: list[list[str | Text]] = [
        [
            f"{t.site} {t.place}".strip(), t.machine, Text(t.kind, style="bold"), t.text,
            clock_time(t.since, found.at), costs(t, found), _next(t, found),
        ]
        for t in tasks
    ]  # fmt: skip
    show_table(("Place", "Machine", "Do", "What", "Since", "Waiting costs", "Then"), rows, "Nothing to do now.")
    for b in found.batches:
        say(b.text)
    if found.coming:
        say("\nComing")
        coming = [
            [clock_time(c.at, found.at), f"{c.site} {c.place}".strip(), c.machine, f"ready: {c.what}"]
            for c in found.coming
        ]
        show_table(("At", "Place", "Machine", "What"), coming, "")


def costs(t: w.RoundTask, found: w.Rounds) -> str:
    """What waiting costs, in words."""
    if t.free_until is None:
        return "nothing"
    if t.free_until > found.at:
        return f"nothing until {clock_time(t.free_until, found.at)}"
    return f"{t.lost_min:.0f} machine min so far"


def _next(t: w.RoundTask, found: w.Rounds) -> str:
    if t.next is None:
        return "nothing waits for it"
    return t.next.what if t.next.start <= found.at else f"{t.next.what} from {clock_time(t.next.start, found.at)}"


@rounds.command("help-link")
@click.argument("name")
@click.option("--site", default="")
@click.option("--hours", type=FINITE, default=12.0, show_default=True, help="How long it is good for.")
@click.pass_context
def help_link(ctx: click.Context, name: str, site: str, hours: float) -> None:
    """Make a link for somebody without an account: it shows the rounds of one site."""
    service = ctx.ensure_object(Service)
    made = service.do(calls.make_helper(ws.HelperOrder(name=name, site=site, hours=hours)))
    say(f"{service.address}{made.address}")
    say(f"Link {made.id} for {made.name}, good until {clock_time(made.expires_at)}.", err=True)


@rounds.command("help-links")
@json_option
@click.pass_context
def help_links(ctx: click.Context, as_json: bool) -> None:
    """The links that were handed on."""
    found = ctx.ensure_object(Service).do(calls.helpers())
    if as_json:
        return show_json(found)
    rows = [
        [str(h.id), h.name, h.site, clock_time(h.expires_at),
         "revoked" if h.revoked else "expired" if h.expired else "good"]
        for h in found
    ]  # fmt: skip
    show_table(("Id", "Name", "Site", "Until", "State"), rows, "No link was handed on.")


@rounds.command("revoke-link")
@click.argument("number", type=int)
@click.pass_context
def revoke_link(ctx: click.Context, number: int) -> None:
    """Make a link worthless from now on."""
    made = ctx.ensure_object(Service).do(calls.revoke_helper(number))
    say(f"Link {made.id} for {made.name} is revoked.")


@click.group()
def spools() -> None:
    """Spools: what is left on each, and where it is."""


@spools.command("list")
@click.option("--all", "finished", is_flag=True, help="Finished ones too.")
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def list_spools(service: Service, finished: bool, as_json: bool, as_csv: bool) -> None:
    """Spools, by material and colour."""
    found = service.do(calls.spools(finished))
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(found)
    rows = [
        [str(s.id), s.material, s.colour, f"{s.grams_left:.0f} g", f"{s.grams_full:.0f} g",
         "finished" if s.finished else f"on {s.machine}" if s.machine else s.place or "on the shelf"]
        for s in found
    ]  # fmt: skip
    show_table(("Id", "Material", "Colour", "Left", "Full", "Where"), rows,
               "No spool is counted. Add one with `chronarch spools add PLA teal`.")  # fmt: skip


@spools.command("add")
@click.argument("material")
@click.argument("colour")
@click.option("--grams", type=FINITE, default=1000.0, show_default=True, help="Of a full one.")
@click.option("--left", type=FINITE, help="What is left on it; all of it without this.")
@click.option("--place", default="")
@pass_service
def add(service: Service, material: str, colour: str, grams: float, left: float | None, place: str) -> None:
    """Take in a spool."""
    order = ws.SpoolOrder(material=material, colour=colour, grams_full=grams, grams_left=left, place=place)
    s = service.do(calls.add_spool(order))
    say(f"Spool {s.id}: {s.colour} {s.material}, {s.grams_left:.0f} g.")


@spools.command("weigh")
@click.argument("number", type=int)
@click.argument("grams", type=FINITE)
@pass_service
def weigh(service: Service, number: int, grams: float) -> None:
    """Correct what is left on a spool, in grams without the reel."""
    s = service.do(calls.change_spool(number, ws.SpoolUpdate(grams_left=grams)))
    say(f"Spool {s.id}: {s.grams_left:.0f} g of {s.colour} {s.material}.")


@spools.command("load")
@click.argument("number", type=int)
@click.argument("machine")
@click.option("--tool", default=0, show_default=True)
@pass_service
def load(service: Service, number: int, machine: str, tool: int) -> None:
    """Say that a spool is on a machine now; what was there is on the shelf."""
    s = service.do(calls.load_spool(number, machine, tool))
    say(f"{s.machine} has {s.colour} {s.material}, {s.grams_left:.0f} g.")


@spools.command("finish")
@click.argument("number", type=int)
@pass_service
def finish(service: Service, number: int) -> None:
    """Say that a spool is empty."""
    s = service.do(calls.change_spool(number, ws.SpoolUpdate(finished=True)))
    say(f"Spool {s.id} is finished.")


@spools.command("history")
@click.argument("number", type=int)
@json_option
@pass_service
def history(service: Service, number: int, as_json: bool) -> None:
    """What was taken from a spool, and what weighing it said."""
    found = service.do(calls.spool_changes(number))
    if as_json:
        return show_json(found)
    rows = [[clock_time(c.at), f"{c.grams:+.1f} g", c.text, c.by] for c in found]
    show_table(("When", "Filament", "Why", "By"), rows, "Nothing was taken from it yet.")
