"""Is it worth a machine? What work waited for, and what would have helped."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi import APIRouter, Query

from chronarch.service.background import TheBackground
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.ledger.span import span
from chronarch.service.ledger.worth import is_it_worth
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import GivenTime
from chronarch.wire.ledger.worth import Worth

router = APIRouter(tags=["report"], route_class=RetryingRoute)
USUAL, LONGEST = timedelta(days=28), timedelta(days=92)


@router.get("/report/worth")
async def worth(
    context: Context,
    fleet: TheFleet,
    background: TheBackground,
    begin: Annotated[GivenTime | None, Query(alias="from")] = None,
    end: Annotated[GivenTime | None, Query(alias="to")] = None,
) -> Worth:
    """What the work of a time waited for (machines or hands), and what one machine more, an hour more of hands or one
    machine less would have made of it. By default of the last 28 days."""
    begin, end = span(context, begin, end, USUAL)
    if end - begin > LONGEST:
        raise ApiProblem(422, f"Ask for at most {LONGEST.days} days.")
    machines = fleet.all()
    return await background.run(lambda db: is_it_worth(db, machines, begin, min(end, context.clock.now())))
