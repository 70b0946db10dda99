"""`chronarch connect` and `chronarch keys`."""

from __future__ import annotations

import json

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
