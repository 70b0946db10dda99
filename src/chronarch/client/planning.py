"""Calls about the plan, why jobs wait, and hours."""

from __future__ import annotations

from chronarch.client.call import Call, at
from chronarch.wire.common import RequestDone
from chronarch.wire.planning.plan import JobWhy, PlanWithForecast
from chronarch.wire.planning.scenarios import WhatIf, WhatIfAnswer
from chronarch.wire.planning.settings import Planning, PlanningUpdate, SiteHours, StrategyMeaning


def start_next(name: str) -> Call[RequestDone]:
    return Call("POST", at("machines", name, "start-next"), RequestDone)


def start_job(machine: str, job: int) -> Call[RequestDone]:
    """Start a job's next copy on an idle machine now."""
    return Call("POST", at("machines", machine, "start", job), RequestDone)


def job_why(number: int) -> Call[JobWhy]:
    return Call("GET", f"/api/jobs/{number}/why", JobWhy)


def plan() -> Call[PlanWithForecast]:
    return Call("GET", "/api/plan", PlanWithForecast)


def what_if(wish: WhatIf) -> Call[WhatIfAnswer]:
    """Answered from a copy; nothing of the shop changes."""
    return Call("POST", "/api/what-if", WhatIfAnswer, body=wish)


def planning() -> Call[Planning]:
    return Call("GET", "/api/planning", Planning)


def strategies() -> Call[list[StrategyMeaning]]:
    """The ways to choose the next build."""
    return Call("GET", "/api/planning/strategies", list[StrategyMeaning])


def change_planning(change: PlanningUpdate) -> Call[Planning]:
    return Call("PATCH", "/api/planning", Planning, body=change)


def hours() -> Call[list[SiteHours]]:
    return Call("GET", "/api/hours", list[SiteHours])


def set_hours(asked: SiteHours) -> Call[SiteHours]:
    return Call("PUT", "/api/hours", SiteHours, body=asked)
