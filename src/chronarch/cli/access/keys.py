"""`chronarch keys`."""

from __future__ import annotations

import click

from chronarch.cli.access.words import PLACES, place_of, place_words, rights_option
from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.access.rights import GivenRole, Right
from chronarch.wire.access import Key


@click.group()
def keys() -> None:
    """Keys for programs."""


@keys.command("list")
@json_option
@pass_service
def list_keys(service: Service, as_json: bool) -> None:
    """All keys that one may see, without their secrets."""
    found = service.do(requests.keys())
    if as_json:
        return show_json(found)
    rows = [
        [str(k.id), k.name, k.owner or "the shop", ", ".join(k.rights), place_words(k.places), k.tender,
         clock_time(k.created_at), clock_time(k.last_at) if k.last_at else "never", _holds(k)]
        for k in found
    ]  # fmt: skip
    heads = ("Id", "Name", "Of", "Rights", "For", "Tender", "Made", "Last used", "Holds")
    show_table(heads, rows, "There are no keys.")


def _holds(key: Key) -> str:
    if key.revoked:
        return "revoked"
    holds = f"until {clock_time(key.expires_at)}" if key.expires_at else "until it is revoked"
    return f"{holds}; old secret until {clock_time(key.old_until)}" if key.old_until else holds


@keys.command()
@click.argument("name")
@click.option("--role", help="What it may do, by the name of a role; operator without --right.")
@rights_option
@click.option("--for", "places", multiple=True, help=f"Where: {PLACES}. May be given several times.")
@click.option("--days", type=click.IntRange(1, 3650), help="How long it holds; without it, until it is revoked.")
@pass_service
def make(
    service: Service, name: str, role: str | None, rights: tuple[str, ...], places: tuple[str, ...], days: int | None
) -> None:
    """Make a key of the shop. Its secret is shown this once."""
    if role and rights:
        raise click.UsageError("Say what the key may do by --role or by --right, not by both.")
    given = [Right(one) for one in rights] or None
    chosen = None if given else role or GivenRole.OPERATOR.value
    say(service.do(requests.make_key(name, chosen, given, [place_of(one) for one in places], days)).secret)


@keys.command()
@click.argument("key", type=int)
@click.option("--overlap", type=click.FloatRange(0, 2160), default=24.0, show_default=True,
              help="For how many hours the secret before still opens.")  # fmt: skip
@pass_service
def change(service: Service, key: int, overlap: float) -> None:
    """Give a key another secret, which is shown this once."""
    say(service.do(requests.change_key(key, overlap)).secret)


@keys.command()
@click.argument("key", type=int)
@pass_service
def revoke(service: Service, key: int) -> None:
    """Revoke a key: it opens nothing from now on."""
    say(f"Key {service.do(requests.revoke_key(key)).name} is revoked.")
