"""`chronarch notices rules …`: who hears of what, over which channels, and when."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import click
from pydantic import ValidationError

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.notices.notices import GRAVITIES, NOTICE_KINDS, notices
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.core.notices.notice_rules import During, NextStep, NoticeRule, Pace, Quiet
from chronarch.wire.common import faults_of
from chronarch.wire.notices.channels import Channel
from chronarch.wire.notices.rules import notice_rule

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


@notices.command()
@json_option
@pass_service
def rules(service: Service, as_json: bool) -> None:
    """All rules that were set. Who has none hears on the page of what asks for hands."""
    found = service.do(requests.notice_rules())
    if as_json:
        return show_json(found)
    channels = {c.id: c for c in service.do(requests.channels())}
    rows = [[str(r.id), r.person or "the shop", *_said(r.rule, channels)] for r in found]
    return show_table(
        ("Id", "Who", "Name", "Hears of", "Over", "When", "If nobody goes"), rows,
        "No rule was set: everybody hears on the page of what asks for hands.",
    )  # fmt: skip


def _said(rule: NoticeRule, channels: dict[int, Channel]) -> list[str]:
    if not rule.on:
        return [rule.name, "off", "", "", ""]
    what = ", ".join(rule.kinds) if rule.kinds else "everything"
    if rule.least is not Gravity.NOTE:
        what += f", {rule.least} and graver"
    for word, some in (("at", rule.machines), ("pool", rule.pools), ("site", rule.sites), ("order", rule.orders)):
        what += f", {word} {', '.join(map(str, some))}" if some else ""
    over = ", ".join(channels[n].name if n in channels else str(n) for n in rule.channels) or "page"
    return [rule.name, what, over, when(rule), "; ".join(_step(step, channels) for step in rule.next_steps)]


def when(rule: NoticeRule) -> str:
    """When a rule speaks, in words."""
    said = {
        Pace.AT_ONCE: "at once", Pace.GATHERED: f"every {rule.every_min} min", Pace.DAILY: f"at {rule.daily_at}",
    }[rule.pace]  # fmt: skip
    if rule.during is During.OWN_HOURS:
        said += f", {rule.begin}–{rule.end} {' '.join(DAYS[n] for n in rule.days)}"
    elif rule.during is During.SHIFT:
        said += ", when somebody is there"
    return said + (f", quiet {rule.quiet.begin}–{rule.quiet.end}" if rule.quiet else "")


def _step(step: NextStep, channels: dict[int, Channel]) -> str:
    to = step.person or (channels[step.channel].name if step.channel in channels else f"channel {step.channel}")
    return f"after {step.after_min} min {to}"


RULE_OPTIONS = [
    click.option("--name", help="What the rule is called."),
    click.option("--kind", "kinds", multiple=True, type=NOTICE_KINDS, help="Only of these kinds."),
    click.option("--least", type=GRAVITIES, help="No less grave than that."),
    click.option("--machine", "machines", multiple=True, help="Only about these machines."),
    click.option("--pool", "pools", multiple=True, help="Only about machines of these pools."),
    click.option("--site", "sites", multiple=True, help="Only about machines of these sites."),
    click.option("--order", "orders", multiple=True, type=click.IntRange(min=1), help="Only about these orders."),
    click.option("--percent", multiple=True, type=click.IntRange(1, 99), help="Progress is told at so many percent."),
    click.option(
        "--minutes-before", multiple=True, type=click.IntRange(1, 1440),
        help="That hands are needed soon is told so many minutes before.",
    ),
    click.option("--over", "channels", multiple=True, type=click.IntRange(min=1), help="Over these channels."),
    click.option("--hours", help="Only within hours of its own: 08:00-18:00."),
    click.option("--days", help="The days of these hours: mon,tue,wed."),
    click.option("--on-shift", is_flag=True, help="Only while somebody is at the site."),
    click.option("--always", is_flag=True, help="At any hour."),
    click.option("--quiet", help="Only what is urgent within these hours: 22:00-07:00; `none` for no such hours."),
    click.option("--at-once", is_flag=True, help="Each notice when it comes."),
    click.option("--every", type=click.IntRange(1, 1440), help="All of so many minutes in one message."),
    click.option("--daily", help="All of a day in one message, at this time: 08:00."),
    click.option(
        "--next", "next_steps", multiple=True, nargs=2, type=(click.IntRange(1, 1440), str), metavar="MINUTES WHO",
        help="Nobody goes for so many minutes: tell this person, or the channel of this number.",
    ),
]  # fmt: skip


def rule_options(command: Any) -> Any:
    for option in reversed(RULE_OPTIONS):
        command = option(command)
    return command


def _changed(rule: NoticeRule, asked: dict[str, Any]) -> NoticeRule:
    """A rule with what was asked for on the command line. Raises click.UsageError."""
    change: dict[str, Any] = {
        name: tuple(asked[name])
        for name in ("machines", "pools", "sites", "orders", "percent", "minutes_before", "channels")
        if asked[name]
    }
    if asked["name"] is not None:
        change["name"] = asked["name"]
    if asked["kinds"]:
        change["kinds"] = tuple(NoticeKind(kind) for kind in asked["kinds"])
    if asked["least"]:
        change["least"] = Gravity(asked["least"])
    if asked["always"]:
        change["during"] = During.ALWAYS
    if asked["on_shift"]:
        change["during"] = During.SHIFT
    if asked["hours"]:
        begin, end = _span(asked["hours"], "--hours")
        change |= {"during": During.OWN_HOURS, "begin": begin, "end": end}
    if asked["days"]:
        names = asked["days"].lower().split(",")
        if any(name not in DAYS for name in names):
            raise click.UsageError(f"--days names days like {','.join(DAYS[:3])}.")
        change |= {"during": During.OWN_HOURS, "days": tuple(sorted({DAYS.index(name) for name in names}))}
    if asked["quiet"]:
        change["quiet"] = None if asked["quiet"] == "none" else Quiet(*_span(asked["quiet"], "--quiet"))
    if asked["at_once"]:
        change["pace"] = Pace.AT_ONCE
    if asked["every"]:
        change |= {"pace": Pace.GATHERED, "every_min": asked["every"]}
    if asked["daily"]:
        change |= {"pace": Pace.DAILY, "daily_at": asked["daily"]}
    if asked["next_steps"]:
        change["next_steps"] = tuple(
            NextStep(minutes, channel=int(to)) if to.isdigit() else NextStep(minutes, person=to)
            for minutes, to in asked["next_steps"]
        )
    try:
        made = replace(rule, **change)
        return notice_rule.validate_python(notice_rule.dump_python(made))
    except ValidationError as error:
        raise click.UsageError(faults_of(error)) from None
    except ValueError as error:
        raise click.UsageError(str(error)) from None


def _span(text: str, option: str) -> tuple[str, str]:
    begin, dash, end = text.partition("-")
    if not dash:
        raise click.UsageError(f"{option} is a span like 08:00-18:00.")
    return begin, end


@notices.command("add-rule")
@click.option("--person", help="What the person signs in with who hears; without it, the shop.")
@rule_options
@pass_service
def add_rule(service: Service, /, person: str | None, **asked: Any) -> None:
    """Have somebody hear of something."""
    made = service.do(requests.add_notice_rule(_changed(NoticeRule(), asked), person or ""))
    say(f"Rule {made.id} for {made.person or 'the shop'}.")


@notices.command("change-rule")
@click.argument("number", type=click.IntRange(min=1))
@click.option("--on/--off", "on", default=None, help="Whether it tells anything.")
@rule_options
@pass_service
def change_rule(service: Service, /, number: int, on: bool | None, **asked: Any) -> None:
    """Change what a rule says; what is not named stays."""
    found = next((one for one in service.do(requests.notice_rules()) if one.id == number), None)
    if found is None:
        raise click.UsageError(f"There is no rule {number}; `chronarch notices rules` shows all.")
    rule = _changed(found.rule, asked)
    service.do(requests.change_notice_rule(number, rule if on is None else replace(rule, on=on)))
    say(f"Rule {number} is changed.")


@notices.command("remove-rule")
@click.argument("number", type=click.IntRange(min=1))
@pass_service
def remove_rule(service: Service, number: int) -> None:
    """Remove a rule."""
    say(service.do(requests.remove_notice_rule(number)).text)


@notices.command("try-rule")
@click.option("--person", help="Whose rule it would be; without it, the shop's.")
@rule_options
@json_option
@pass_service
def try_rule(service: Service, /, person: str | None, as_json: bool, **asked: Any) -> None:
    """What a rule would have told in the week before. Nothing is kept."""
    found = service.do(requests.try_notice_rule(_changed(NoticeRule(), asked), person or ""))
    if as_json:
        return show_json(found)
    many = (
        f"{found.notices} notice{'s' * (found.notices != 1)} in {found.messages} message{'s' * (found.messages != 1)}"
    )
    say(f"Since {clock_time(found.since)} it would have told of {many}.")
    rows = [[str(n.id), clock_time(n.at), n.gravity, n.text] for n in found.newest]
    return show_table(("Id", "When", "Gravity", "Notice"), rows, "Nothing.")
