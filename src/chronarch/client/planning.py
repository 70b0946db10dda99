"""Calls about the plan, rounds, hours and spools, as values. No I/O."""

from __future__ import annotations

from datetime import datetime

from chronarch.client.requests import Call, some
from chronarch.wire import plan as w
from chronarch.wire import shop as ws
from chronarch.wire.work import Build, Clearing, Done


def plan() -> Call[w.Plan]:
    return Call("GET", "/api/plan", w.Plan)


def what_if(wish: w.WhatIf) -> Call[w.WhatIfAnswer]:
    """Answered from a copy; nothing of the shop changes."""
    return Call("POST", "/api/what-if", w.WhatIfAnswer, body=wish)


def rounds(site: str | None = None) -> Call[w.Rounds]:
    return Call("GET", "/api/rounds", w.Rounds, params=some(site=site))


def helpers() -> Call[list[ws.Helper]]:
    return Call("GET", "/api/helpers", list[ws.Helper])


def make_helper(order: ws.HelperOrder) -> Call[ws.NewHelper]:
    return Call("POST", "/api/helpers", ws.NewHelper, body=order)


def revoke_helper(number: int) -> Call[ws.Helper]:
    return Call("DELETE", f"/api/helpers/{number}", ws.Helper)


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


def turnaround(begin: datetime | None = None, end: datetime | None = None) -> Call[w.TurnaroundReport]:
    return Call("GET", "/api/report/turnaround", w.TurnaroundReport, params=some(from_=begin, to=end))


def planning() -> Call[ws.Planning]:
    return Call("GET", "/api/planning", ws.Planning)


def strategies() -> Call[list[ws.StrategyMeaning]]:
    """The ways to choose the next build."""
    return Call("GET", "/api/planning/strategies", list[ws.StrategyMeaning])


def change_planning(change: ws.PlanningUpdate) -> Call[ws.Planning]:
    return Call("PATCH", "/api/planning", ws.Planning, body=change)


def hours() -> Call[list[ws.SiteHours]]:
    return Call("GET", "/api/hours", list[ws.SiteHours])


def set_hours(order: ws.SiteHours) -> Call[ws.SiteHours]:
    return Call("PUT", "/api/hours", ws.SiteHours, body=order)


def upkeep_windows() -> Call[list[ws.Upkeep]]:
    return Call("GET", "/api/upkeep-windows", list[ws.Upkeep])


def add_upkeep_window(order: ws.UpkeepOrder) -> Call[ws.Upkeep]:
    return Call("POST", "/api/upkeep-windows", ws.Upkeep, body=order)


def remove_upkeep_window(number: int) -> Call[Done]:
    return Call("DELETE", f"/api/upkeep-windows/{number}", Done)


def spools(finished: bool = False) -> Call[list[ws.Spool]]:
    return Call("GET", "/api/spools", list[ws.Spool], params=some(finished=finished))


def add_spool(order: ws.SpoolOrder) -> Call[ws.Spool]:
    return Call("POST", "/api/spools", ws.Spool, body=order)


def change_spool(number: int, change: ws.SpoolUpdate) -> Call[ws.Spool]:
    return Call("PATCH", f"/api/spools/{number}", ws.Spool, body=change)


def load_spool(number: int, machine: str, tool: int = 0) -> Call[ws.Spool]:
    return Call("POST", f"/api/spools/{number}/load", ws.Spool, body=ws.LoadSpool(machine=machine, tool=tool))


def spool_changes(number: int) -> Call[list[ws.SpoolEvent]]:
    return Call("GET", f"/api/spools/{number}/changes", list[ws.SpoolEvent])
