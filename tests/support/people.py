"""People of a world: let in, and signed in as browsers do it."""

from __future__ import annotations

from collections.abc import Sequence

import httpx

from chronarch.client import requests
from chronarch.wire import access as w
from tests.support.world import World

PASSWORD = "seven quiet herons"


def browser(world: World, place: str = "127.0.0.1", agent: str = "") -> httpx.Client:
    """A browser that nobody has signed in with; `place` is the loopback address that it comes from."""
    headers = {"User-Agent": agent} if agent else {}
    transport = httpx.HTTPTransport(local_address=place)
    return httpx.Client(base_url=f"{world.address}/api", timeout=30, transport=transport, headers=headers)


def signed_in(
    world: World, login: str, password: str = PASSWORD, place: str = "127.0.0.1", agent: str = ""
) -> httpx.Client:
    """A browser in which somebody is signed in."""
    client = browser(world, place, agent)
    me = client.post("/sign-in", json={"login": login, "password": password}).raise_for_status().json()
    client.headers["X-CSRF-Token"] = me["csrf"]
    return client


def let_in(world: World, login: str, *roles: w.HeldRole, name: str = "", teams: Sequence[str] = ()) -> None:
    """Invite somebody and have them join."""
    asked = w.NewInvite(name=name or login.capitalize(), roles=list(roles), teams=list(teams))
    path = world.client.do(requests.invite(asked)).path
    order = {"token": path.partition("#")[2], "login": login, "password": PASSWORD}
    with browser(world) as client:
        client.post("/invited", json=order).raise_for_status()


def role(name: str, site: str = "", pool: str = "") -> w.HeldRole:
    """A role, for the shop or for a site or pool."""
    kind = "site" if site else "pool" if pool else "shop"
    return w.HeldRole.model_validate({"role": name, "kind": kind, "place": site or pool})
