"""`chronarch rounds`."""

from __future__ import annotations

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option
from chronarch.cli.output import clock_time, show_csv, show_json, show_table
from chronarch.cli.plain import FINITE, say
from chronarch.client import requests as calls
from chronarch.wire import rounds as w
from chronarch.wire.rounds import NewHelper


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
    made = service.do(calls.make_helper(NewHelper(name=name, site=site, hours=hours)))
    say(f"{service.address}{made.address}")
    say(f"Link {made.id} for {made.name}, good until {clock_time(made.expires_at)}.", err=True)


@rounds.command("help-links")
@json_option
@click.pass_context
def help_links(ctx: click.Context, as_json: bool) -> None:
    """The links that were handed out."""
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
    """Revoke a link: it opens nothing from now on."""
    made = ctx.ensure_object(Service).do(calls.revoke_helper(number))
    say(f"Link {made.id} for {made.name} is revoked.")
