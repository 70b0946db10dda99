"""`chronarch notices`: what people should know, and what is done about it."""

from __future__ import annotations

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.notices.kinds import Gravity, NoticeAct, NoticeKind
from chronarch.core.watching.suspicion import KINDS as OF_BUILDS
from chronarch.core.watching.suspicion import FailureMode
from chronarch.wire.notices.notices import Notice

GRAVITIES = click.Choice([str(gravity) for gravity in Gravity])
NOTICE_KINDS = click.Choice([str(kind) for kind in NoticeKind])
STYLES = {Gravity.URGENT: "bold red", Gravity.ACT: "red", Gravity.LOOK: "", Gravity.NOTE: "dim"}


@click.group()
def notices() -> None:
    """Notices: what people should know, who goes, and who hears of what."""


def standing(one: Notice) -> str:
    """How a notice stands, in words."""
    if one.closed_at is not None:
        said = one.closed_at == one.at
        return "said" if said else f"over {clock_time(one.closed_at)}{f', {one.closed_by}' if one.closed_by else ''}"
    return f"{one.taken_by} goes" if one.taken_at else "open"


@notices.command("list")
@click.option("--open", "only_open", is_flag=True, help="Only what is not over.")
@click.option("--least", type=GRAVITIES, help="No less grave than that.")
@click.option("--kind", type=NOTICE_KINDS, help="Only of this kind.")
@click.option("--machine", default="", help="Only about this machine.")
@click.option("--build", type=click.IntRange(min=1), help="Only about this build.")
@click.option("--search", default="", help="Only with all of these words.")
@click.option("--limit", type=click.IntRange(min=1), default=50, show_default=True, help="At most so many.")
@json_option
@pass_service
def list_notices(
    service: Service, only_open: bool, least: str | None, kind: str | None, machine: str, build: int | None,
    search: str, limit: int, as_json: bool,
) -> None:  # fmt: skip
    """Notices, newest first."""
    call = requests.notices(
        open=only_open, least=Gravity(least) if least else None, kind=NoticeKind(kind) if kind else None,
        machine=machine, build=build, search=search,
    )  # fmt: skip
    found = service.all(call, limit)
    if as_json:
        return show_json(found)
    rows: list[list[str | Text]] = [
        [
            str(n.id), clock_time(n.at), Text(n.gravity, style=STYLES[n.gravity] if n.closed_at is None else "dim"),
            n.text, standing(n),
        ]
        for n in found
    ]  # fmt: skip
    show_table(("Id", "When", "Gravity", "Notice", "Stands"), rows, "Nothing of the kind.")


@notices.command()
@click.argument("number", type=click.IntRange(min=1))
@json_option
@pass_service
def show(service: Service, number: int, as_json: bool) -> None:
    """One notice, what can be done about it, and who was told."""
    one, told = service.do(requests.notice(number)), service.do(requests.notice_told(number))
    if as_json:
        return show_json({"notice": one.model_dump(mode="json"), "told": [t.model_dump(mode="json") for t in told]})
    say(f"{one.text}")
    say(f"{one.gravity}, {one.kind}; {clock_time(one.at)}; {standing(one)}")
    if one.acts:
        say(f"Can be done: {', '.join(one.acts)} (`chronarch notices act {one.id} …`)")
    rows = [
        [t.person or "the shop", t.name, t.what, t.state, clock_time(t.sent_at) if t.sent_at else "", t.answer]
        for t in told
    ]
    show_table(("Who", "Channel", "What", "State", "When", "Answer"), rows, "Nobody was told over any channel.")
    return None


@notices.command()
@click.argument("number", type=click.IntRange(min=1))
@click.argument("what", type=click.Choice([str(act) for act in NoticeAct]))
@click.option("--kind", type=click.Choice([str(mode) for mode in OF_BUILDS]), help="What the watch has missed.")
@pass_service
def act(service: Service, number: int, what: str, kind: str | None) -> None:
    """Do something about a notice at once."""
    one = service.do(requests.act_on_notice(number, NoticeAct(what), FailureMode(kind) if kind else None))
    say(f"Done: {what}. {one.text} ({standing(one)})")


@notices.command()
@click.argument("number", type=click.IntRange(min=1))
@pass_service
def take(service: Service, number: int) -> None:
    """Say that you go; the others are told."""
    one = service.do(requests.act_on_notice(number, NoticeAct.GOING))
    say(f"The others are told that you go: {one.text}")


@notices.command("give-back")
@click.argument("number", type=click.IntRange(min=1))
@pass_service
def give_back(service: Service, number: int) -> None:
    """Say that nobody goes after all."""
    one = service.do(requests.not_going(number))
    say(f"Nobody goes: {one.text}")


@notices.command()
@click.argument("number", type=click.IntRange(min=1))
@pass_service
def close(service: Service, number: int) -> None:
    """Say that a notice is dealt with."""
    one = service.do(requests.close_notice(number))
    say(f"Over: {one.text}")


@notices.command()
@json_option
@pass_service
def kinds(service: Service, as_json: bool) -> None:
    """What there is to be told of."""
    found = service.do(requests.notice_kinds())
    if as_json:
        return show_json(found)
    rows = [[k.kind, k.gravity, k.text, ", ".join(k.acts)] for k in found]
    return show_table(("Kind", "Gravity", "When", "At once"), rows, "None.")
