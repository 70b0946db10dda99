"""What machines drew."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from fastapi import APIRouter, Query

from chronarch.core.bounds import Number, Word
from chronarch.records.ledger import energy as records
from chronarch.service.background import TheBackground
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.problems import ApiProblem
from chronarch.wire.machines.power import EnergyRow

router = APIRouter(tags=["ledger"], route_class=RetryingRoute)
GROUPED = Query(description="Some of machine, day, state and build, with commas.", max_length=40)


@router.get("/report/energy")
async def energy(
    background: TheBackground, fleet: TheFleet, by: Annotated[str, GROUPED] = "machine",
    begin: date | None = None, end: date | None = None, machine: Word = "", build: Number | None = None,
) -> list[EnergyRow]:  # fmt: skip
    """Wh that machines drew on the days `begin` to `end` (UTC, both included), grouped by any of machine, day, state
    and build; of one machine or one build, if that is asked."""
    asked = {name.strip() for name in by.split(",") if name.strip()}
    unknown = sorted(asked - set(records.GROUPS))
    if unknown:
        raise ApiProblem(422, f"It can be grouped by {', '.join(records.GROUPS)}, not by {unknown[0]!r}.")
    groups = [name for name in records.GROUPS if name in asked]
    of = fleet.find(machine).row.id if machine else None
    names = {known.row.id: known.row.name for known in fleet.all()}
    rows = await background.run(lambda db: records.drawn(db, groups, begin, end, of, build))
    found = []
    for *values, wh, last_at in rows:
        said = dict(zip(groups, values, strict=True))
        if "machine" in said:
            said["machine"] = names.get(said["machine"], "")
        if said.get("build") == 0:
            said["build"] = None
        found.append(EnergyRow(**said, wh=round(wh, 3), last_at=last_at))
    return found
