"""Calls about what hands must do, and helpers' links."""

from __future__ import annotations

from datetime import datetime

from chronarch.client.call import Call, some
from chronarch.wire import rounds as w
from chronarch.wire.orders.builds import Build, Clearing
from chronarch.wire.rounds import CreatedHelper, Helper, NewHelper


def rounds(site: str | None = None) -> Call[w.Rounds]:
    return Call("GET", "/api/rounds", w.Rounds, params=some(site=site))


def helpers() -> Call[list[Helper]]:
    return Call("GET", "/api/helpers", list[Helper])


def make_helper(asked: NewHelper) -> Call[CreatedHelper]:
    return Call("POST", "/api/helpers", CreatedHelper, body=asked)


def revoke_helper(number: int) -> Call[Helper]:
    return Call("DELETE", f"/api/helpers/{number}", Helper)


def helper_rounds(token: str) -> Call[w.Rounds]:
    """What a helper sees; needs no key."""
    return Call("GET", "/api/help/rounds", w.Rounds, headers={"X-Helper-Link": token})


def helper_verdict(token: str, build: int, clearing: Clearing) -> Call[Build]:
    path = f"/api/help/builds/{build}/verdict"
    return Call("POST", path, Build, body=clearing, headers={"X-Helper-Link": token})


def here() -> Call[w.SinceYouLeft]:
    """Say that you look; tells what happened since you were last seen before being away."""
    return Call("POST", "/api/me/here", w.SinceYouLeft)


def since(begin: datetime) -> Call[w.SinceYouLeft]:
    return Call("GET", "/api/since", w.SinceYouLeft, params=some(begin=begin))
