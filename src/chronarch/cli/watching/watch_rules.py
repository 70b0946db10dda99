"""`chronarch watch`: what follows of a suspicion, and how careful the watch is."""

from __future__ import annotations

from dataclasses import replace

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import duration, show_json, show_table
from chronarch.cli.plain import say
from chronarch.cli.watching.watch import watch
from chronarch.client import requests
from chronarch.core.watching.suspicion import FailureMode
from chronarch.core.watching.watch_rules import Follow, WatchRule, WatchScope
from chronarch.wire.watching import watch as w
from chronarch.wire.watching.settings import WatchingUpdate

KINDS = click.Choice([str(mode) for mode in FailureMode])
SCOPE = click.Choice([str(scope) for scope in WatchScope])


@watch.command()
@json_option
@pass_service
def rules(service: Service, as_json: bool) -> None:
    """What follows of suspicions, for everything that has a rule of its own."""
    found = service.do(requests.watch_rules())
    if as_json:
        return show_json(found)
    rows = [[_named(one), *_said(one.rule)] for one in found]
    nothing = "No rule was set: people are told of everything, and a bed that is not clear takes no work."
    show_table(("For", "Watch", *FailureMode), rows, nothing)


def _named(one: w.WatchRuleView) -> str:
    return "the shop" if one.scope is WatchScope.SHOP else f"{one.scope} {one.subject}"


def _said(rule: WatchRule) -> list[str | Text]:
    if not rule.on:
        return [Text(f"off{f': {rule.reason}' if rule.reason else ''}", style="yellow"), *("" for _ in FailureMode)]
    return ["on", *(str(rule.follows(mode)) for mode in FailureMode)]


@watch.command()
@click.argument("scope", type=SCOPE)
@click.argument("subject", default="0")
@click.option("--pause", multiple=True, type=KINDS, help="Pause the build; for not-clear, give the machine no work.")
@click.option("--leave-out", multiple=True, type=KINDS, help="Leave that object out and go on with the rest.")
@click.option("--tell", multiple=True, type=KINDS, help="Only tell people.")
@click.option("--nothing", multiple=True, type=KINDS, help="Take no notice.")
@click.option("--off", "off", is_flag=True, help="Do not watch.")
@click.option("--on", "on", is_flag=True, help="Watch again.")
@click.option("--reason", default="", help="Why it is off.")
@click.option("--forget", is_flag=True, help="Forget the rule: what holds above it holds.")
@pass_service
def follow(
    service: Service, scope: str, subject: str, pause: tuple[str, ...], leave_out: tuple[str, ...],
    tell: tuple[str, ...], nothing: tuple[str, ...], off: bool, on: bool, reason: str, forget: bool,
) -> None:  # fmt: skip
    """Say what follows when something is suspected: for the shop, `machine NAME`, or `job NUMBER`."""
    where = WatchScope(scope)
    if forget:
        held = service.do(requests.drop_watch_rule(where, subject))
        return say(f"Forgotten; what holds for {_named(held)} holds.")
    rule = service.do(requests.watch_rule(where, subject)).rule
    said = {
        FailureMode(kind): what
        for what, kinds in (
            (Follow.PAUSE, pause), (Follow.LEAVE_OUT, leave_out), (Follow.TELL, tell), (Follow.NOTHING, nothing),
        )
        for kind in kinds
    }  # fmt: skip
    try:
        rule = replace(rule, follow={**rule.follow, **said}, on=(rule.on or on) and not off, reason=reason)
    except ValueError as error:
        raise click.UsageError(f"That cannot be: {error}.") from None
    kept = service.do(requests.set_watch_rule(where, subject, rule))
    first, *kinds = _said(kept.rule)
    what = ", ".join(f"{mode}: {each}" for mode, each in zip(FailureMode, kinds, strict=True) if each)
    return say(f"For {_named(kept)} the watch is {first}. {what}".rstrip())


@watch.command()
@click.argument("false_alarms_a_week", type=float, required=False)
@json_option
@pass_service
def careful(service: Service, false_alarms_a_week: float | None, as_json: bool) -> None:
    """How many false alarms a week the shop puts up with, and what is caught then. With a number, set it."""
    if false_alarms_a_week is not None:
        service.do(requests.change_watching(WatchingUpdate(false_alarms_a_week=false_alarms_a_week)))
    found, settings = service.do(requests.watch_curve()), service.do(requests.watching())
    if as_json:
        return show_json(found)
    week = found.building_h_per_week
    rows: list[list[str | Text]] = [
        [f"{p.threshold:.2f}", f"{p.false_per_h * week:.1f}", f"{p.caught:.0%}", f"{p.in_time:.0%}",
         duration(p.delay_s), "chosen" if p == found.chosen else ""] for p in found.points
    ]  # fmt: skip
    headings = ("Raised from", "False alarms a week", "Failures caught", "Within 10 min", "Usual delay", "")
    show_table(headings, rows, "Nothing was measured.")
    say(f"The shop puts up with {settings.false_alarms_a_week:g} false alarms a week; its machines build {week:.0f} h "
        f"a week.")  # fmt: skip
    return say(f"Answered here: {found.right_here} right, {found.false_here} false alarms, {found.missed_here} missed.")
