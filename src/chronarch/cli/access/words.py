"""How roles and places are written on the command line, and shown."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

import click

from chronarch.core.access.rights import WHOLE_SHOP, Place, PlaceKind, Right
from chronarch.wire.access import HeldRole

PLACES = "the whole shop without it, else site:NAME or pool:NAME"


def place_of(text: str) -> Place:
    """`site:NAME`, `pool:NAME` or `shop`. Raises click.BadParameter."""
    kind, _, name = text.partition(":")
    if kind == PlaceKind.SHOP and not name:
        return WHOLE_SHOP
    if kind not in (PlaceKind.SITE, PlaceKind.POOL) or not name.strip():
        raise click.BadParameter(f"{text!r} is no place; say site:NAME or pool:NAME.")
    return Place(PlaceKind(kind), name.strip())


def held_role(text: str) -> HeldRole:
    """`ROLE`, `ROLE@site:NAME` or `ROLE@pool:NAME`. Raises click.BadParameter."""
    role, _, where = text.partition("@")
    place = place_of(where) if where else WHOLE_SHOP
    if not role.strip() or len(role) > 40:
        raise click.BadParameter(f"{text!r} names no role; `chronarch roles list` shows all.")
    return HeldRole(role=role.strip(), kind=place.kind, place=place.name)


def _roles(ctx: click.Context, option: click.Parameter, given: Sequence[str]) -> list[HeldRole]:
    return [held_role(one) for one in given]


def roles_option(f: Callable[..., Any]) -> Callable[..., Any]:
    """`--role`, several times: what somebody holds."""
    text = "A role they hold: ROLE, ROLE@site:NAME or ROLE@pool:NAME. May be given several times."
    return click.option("--role", "roles", multiple=True, callback=_roles, help=text)(f)


def rights_option(f: Callable[..., Any]) -> Callable[..., Any]:
    """`--right`, several times."""
    kind = click.Choice([right.value for right in Right])
    return click.option("--right", "rights", multiple=True, type=kind, help="A right; may be given several times.")(f)


def role_words(roles: Iterable[HeldRole]) -> str:
    """For example `operator, technician for the site Harbour`."""
    return ", ".join(r.role if r.kind == PlaceKind.SHOP else f"{r.role} for {r.at.words}" for r in roles)


def place_words(places: Iterable[Place]) -> str:
    return ", ".join(place.words for place in places)
