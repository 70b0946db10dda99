"""`chronarch connect`, `chronarch me` and `chronarch people`."""

from __future__ import annotations

import json
from pathlib import Path

import click

from chronarch.cli.access.words import place_words, role_words, roles_option
from chronarch.cli.context import ACCESS, Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import Client, requests
from chronarch.private_file import write_private
from chronarch.wire import access as w


@click.command()
@click.argument("address")
@click.option("--key", prompt=True, hide_input=True, help="A key from `chronarch keys make`; asked for without it.")
def connect(address: str, key: str) -> None:
    """Remember the address of a service and a key, once both have been tried."""
    with Client(address, key) as client:
        me = client.do(requests.me())
    path = ACCESS.expanduser()
    path.parent.mkdir(parents=True, exist_ok=True)
    write_private(path, json.dumps({"address": address, "key": key}).encode())
    may = ", ".join(one.right.words for one in me.rights)
    say(f"Connected to {address} as {me.name}, who may {may}.")


@click.command()
@json_option
@pass_service
def me(service: Service, as_json: bool) -> None:
    """Who asks with this key, and what it may do where."""
    found = service.do(requests.me())
    if as_json:
        return show_json(found)
    say(f"{found.name}:")
    rows = [[one.right, one.right.words, place_words(one.places)] for one in found.rights]
    show_table(("Right", "May", "For"), rows, "This key may do nothing.")


@click.group()
def people() -> None:
    """People: invite them, what they may do, where they are signed in, what is kept of them."""


@people.command("list")
@json_option
@pass_service
def list_people(service: Service, as_json: bool) -> None:
    """Everybody who can sign in, and what they hold."""
    found = service.do(requests.people())
    if as_json:
        return show_json(found)
    rows = [
        [p.login, p.name, role_words(p.roles), ", ".join(p.teams), clock_time(p.here_at) if p.here_at else ""]
        for p in found
    ]
    show_table(("Signs in as", "Name", "Roles", "Teams", "Last here"), rows, "Nobody can sign in.")


@people.command("give")
@click.argument("login")
@roles_option
@click.option("--team", "teams", multiple=True, help="A team they are in; may be given several times.")
@pass_service
def give(service: Service, login: str, roles: list[w.HeldRole], teams: tuple[str, ...]) -> None:
    """Say which roles a person holds and which teams they are in. What is not named they lose."""
    found = service.do(requests.set_person_roles(login, w.PersonRoles(roles=roles, teams=list(teams))))
    held = role_words(found.roles) or "no role of their own"
    in_teams = f"; in {', '.join(found.teams)}" if found.teams else ""
    say(f"{found.name} holds {held}{in_teams}.")


@people.command("invite")
@click.argument("name")
@click.option("--mail", default="", help="Their mail address.")
@roles_option
@click.option("--team", "teams", multiple=True, help="A team they will be in; may be given several times.")
@click.option("--days", type=click.IntRange(1, 60), default=7, show_default=True, help="How long the link holds.")
@json_option
@pass_service
def invite(
    service: Service, name: str, mail: str, roles: list[w.HeldRole], teams: tuple[str, ...], days: int, as_json: bool
) -> None:
    """Invite somebody: prints a link by which they join, once."""
    asked = w.NewInvite(name=name, mail=mail, roles=roles, teams=list(teams), days=days)
    _show_invite(service, service.do(requests.invite(asked)), as_json)


@people.command("new-password")
@click.argument("login")
@click.option("--days", type=click.IntRange(1, 60), default=1, show_default=True, help="How long the link holds.")
@json_option
@pass_service
def new_password(service: Service, login: str, days: int, as_json: bool) -> None:
    """Have somebody who is here choose a new password: prints a link that does it, once."""
    _show_invite(service, service.do(requests.invite(w.NewInvite(again=login, days=days))), as_json)


def _show_invite(service: Service, made: w.CreatedInvite, as_json: bool) -> None:
    if as_json:
        return show_json(made)
    say(f"Invite {made.id}, for {made.name} alone. It works once, until {clock_time(made.expires_at)}:")
    say(f"{service.client.address}{made.path}")


@people.command("invites")
@json_option
@pass_service
def list_invites(service: Service, as_json: bool) -> None:
    """The invites that still let somebody in."""
    found = service.do(requests.invites())
    if as_json:
        return show_json(found)
    rows = [
        [str(i.id), i.name, "a new password" if i.again else role_words(i.roles), ", ".join(i.teams), i.made_by,
         clock_time(i.expires_at)]
        for i in found
    ]  # fmt: skip
    show_table(("Id", "For", "Gives", "Teams", "By", "Ends"), rows, "No invite is open.")


@people.command("take-back")
@click.argument("invite", type=int)
@pass_service
def take_back(service: Service, invite: int) -> None:
    """Take an invite back: its link opens nothing from now on."""
    say(service.do(requests.take_invite_back(invite)).text)


@people.command("sessions")
@click.argument("login")
@json_option
@pass_service
def sessions(service: Service, login: str, as_json: bool) -> None:
    """Where a person is signed in."""
    found = service.do(requests.person_sessions(login))
    if as_json:
        return show_json(found)
    rows = [
        [s.device, s.place, clock_time(s.made_at), clock_time(s.last_at), "own device" if s.trusted else ""]
        for s in found
    ]
    show_table(("Device", "From", "Since", "Last used", ""), rows, f"{login} is signed in nowhere.")


@people.command("sign-out")
@click.argument("login")
@pass_service
def sign_out(service: Service, login: str) -> None:
    """Sign a person out everywhere."""
    say(service.do(requests.sign_person_out(login)).text)


@people.command("forget-factors")
@click.argument("login")
@pass_service
def forget_factors(service: Service, login: str) -> None:
    """Somebody has lost their second factors: they sign in without, and add others."""
    say(service.do(requests.forget_second_factors(login)).text)


@people.command("export")
@click.argument("login")
@click.argument("out", type=click.Path(dir_okay=False, path_type=Path))
@pass_service
def export_person(service: Service, login: str, out: Path) -> None:
    """Write all that is kept of a person to OUT, as JSON Lines: a line for each row, with its table."""
    count = service.client.save(requests.all_of_person(login), out)
    say(f"{out}: {count:,} bytes.")


@people.command("remove")
@click.argument("login")
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_service
def remove_person(service: Service, login: str, yes: bool) -> None:
    """Remove a person. What they did stays in the records, signed by somebody who left."""
    if not yes:
        told = f"{login} signs in no more, and their name goes from all records. Nothing undoes that. Go on?"
        click.confirm(told, abort=True)
    say(service.do(requests.remove_person(login)).text)
