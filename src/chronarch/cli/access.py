"""`chronarch connect`, `chronarch people` and `chronarch keys`."""

from __future__ import annotations

import json
from pathlib import Path

import click

from chronarch.cli.context import ACCESS, Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import Client, requests
from chronarch.private_file import write_private
from chronarch.wire.access import Scope


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
    say(f"Connected to {address} as {me.name}, who may {me.scope}.")


@click.group()
def people() -> None:
    """People who can sign in, and what is kept of them."""


@people.command("list")
@json_option
@pass_service
def list_people(service: Service, as_json: bool) -> None:
    """Everybody who can sign in."""
    found = service.do(requests.people())
    if as_json:
        return show_json(found)
    rows = [[p.login, p.name, p.scope, clock_time(p.here_at) if p.here_at else ""] for p in found]
    show_table(("Signs in as", "Name", "May", "Last here"), rows, "Nobody can sign in.")


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


@click.group()
def keys() -> None:
    """Keys for programs."""


@keys.command("list")
@json_option
@pass_service
def list_keys(service: Service, as_json: bool) -> None:
    """All keys, without their secrets."""
    found = service.do(requests.keys())
    if as_json:
        return show_json(found)
    rows = [
        [str(k.id), k.name, k.scope, k.tender, clock_time(k.created_at), "revoked" if k.revoked else ""] for k in found
    ]
    show_table(("Id", "Name", "May", "Tender", "Made", ""), rows, "There are no keys.")


@keys.command()
@click.argument("name")
@click.option("--scope", type=click.Choice([s.value for s in Scope]), default="operate", show_default=True)
@pass_service
def make(service: Service, name: str, scope: str) -> None:
    """Make a key. Its secret is shown this once."""
    say(service.do(requests.make_key(name, Scope(scope))).secret)


@keys.command()
@click.argument("key", type=int)
@pass_service
def revoke(service: Service, key: int) -> None:
    """Revoke a key: it opens nothing from now on."""
    say(f"Key {service.do(requests.revoke_key(key)).name} is revoked.")
