"""`chronarch roles` and `chronarch teams`."""

from __future__ import annotations

import click

from chronarch.cli.access.words import rights_option, role_words, roles_option
from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.access.rights import Right
from chronarch.wire import access as w

REACHES = {"anywhere": "held for any place", "machine": "at the machine", "shop": "for the whole shop"}


@click.group()
def roles() -> None:
    """Roles: named sets of rights, held for the shop, a site or a pool."""


@roles.command("list")
@json_option
@pass_service
def list_roles(service: Service, as_json: bool) -> None:
    """All roles, those that every shop has first, and what each lets one do."""
    found = service.do(requests.roles())
    if as_json:
        return show_json(found)
    rows = [
        [r.name, "given" if r.given else "made here", str(r.held_by), ", ".join(one.words for one in r.rights)]
        for r in found
    ]
    show_table(("Role", "", "Held by", "May"), rows, "There are no roles.")


@roles.command("rights")
@json_option
@pass_service
def list_rights(service: Service, as_json: bool) -> None:
    """All that somebody may be let do."""
    found = service.do(requests.rights())
    if as_json:
        return show_json(found)
    show_table(("Right", "Counts", "What it takes in"), [[r.right, REACHES[r.reach], r.text] for r in found], "")


@roles.command("set")
@click.argument("name")
@rights_option
@pass_service
def set_role(service: Service, name: str, rights: tuple[str, ...]) -> None:
    """Make a role, or say anew what it lets one do."""
    if not rights:
        raise click.UsageError("Say at least one --right; `chronarch roles rights` shows all.")
    found = service.do(requests.set_role(name, [Right(one) for one in rights]))
    say(f"{found.name} may {', '.join(one.words for one in found.rights)}.")


@roles.command("remove")
@click.argument("name")
@pass_service
def remove_role(service: Service, name: str) -> None:
    """Remove a role that nobody holds."""
    say(service.do(requests.remove_role(name)).text)


@roles.command("guard")
@click.argument("names", metavar="[ROLE]...", nargs=-1)
@click.option("--none", is_flag=True, help="No role wants a second factor.")
@pass_service
def guard_roles(service: Service, names: tuple[str, ...], none: bool) -> None:
    """Say which roles count only where a second factor was shown; without any, say which do now."""
    if names and none:
        raise click.UsageError("Name roles, or say --none.")
    call = requests.guard_roles(names) if names or none else requests.guarded_roles()
    found = service.do(call).roles
    say(f"Wanting a second factor: {', '.join(found)}." if found else "No role wants a second factor.")


@click.group()
def teams() -> None:
    """Teams: people who hold the same roles."""


@teams.command("list")
@json_option
@pass_service
def list_teams(service: Service, as_json: bool) -> None:
    """The teams, what they hold, and who is in them."""
    found = service.do(requests.teams())
    if as_json:
        return show_json(found)
    rows = [[team.name, role_words(team.roles), ", ".join(team.members)] for team in found]
    show_table(("Team", "Roles", "In it"), rows, "There are no teams.")


@teams.command("set")
@click.argument("name")
@roles_option
@click.option("--member", "members", multiple=True, help="What somebody in it signs in with; several times.")
@pass_service
def set_team(service: Service, name: str, roles: list[w.HeldRole], members: tuple[str, ...]) -> None:
    """Make a team, or say anew what it holds and who is in it. What is not named goes."""
    found = service.do(requests.set_team(name, w.TeamSet(roles=roles, members=list(members))))
    say(f"{found.name} holds {role_words(found.roles) or 'no role'}; people in it: {len(found.members)}.")


@teams.command("remove")
@click.argument("name")
@pass_service
def remove_team(service: Service, name: str) -> None:
    """Remove a team: those in it lose what it holds."""
    say(service.do(requests.remove_team(name)).text)
