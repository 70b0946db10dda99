"""Wear parts and how long they last; calibration checks and what they measured."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from chronarch.core.upkeep.calibration import CalibrationVerdict, judge
from chronarch.core.upkeep.wear import WeibullFit, fit
from chronarch.records.upkeep.fitted_parts import lives_of_models, parts_here
from chronarch.records.upkeep.odometers import odometers
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.upkeep.keeper import TheUpkeepKeeper, last_values
from chronarch.wire.common import fill
from chronarch.wire.upkeep import tasks as w

router = APIRouter(tags=["upkeep"], route_class=RetryingRoute)
AHEAD_H = 100.0
Most = Annotated[int, Query(ge=1, le=5000, description="At most so many.")]
WORST = {CalibrationVerdict.OUT: 0, CalibrationVerdict.DRIFTS: 1, CalibrationVerdict.FINE: 2, None: 3}
ONLY = Query(max_length=300, description="Only this machine's.")


@router.get("/upkeep/parts")
async def parts(
    context: Context, fleet: TheFleet, keeper: TheUpkeepKeeper, machine: Annotated[str, ONLY] = "", limit: Most = 1000
) -> list[w.FittedPart]:
    """Wear parts on machines: since when, what they have done, and how long such parts last; first those that will
    hardly last another 100 hours."""
    only = fleet.find(machine).row.name if machine else ""
    models = {known.row.id: known.model.name for known in fleet.all()}
    names = {known.row.id: known.row.name for known in fleet.all()}
    async with context.sessions() as db:
        here = await parts_here(db, [one.mark for one in keeper.standings if one.mark.machine in names])
        here = {key: one for key, one in here.items() if key[0] in names}
        now = await odometers(db, sorted({number for number, _ in here}), context.clock.now())
    fits = {key: fit(lives) for key, lives in lives_of_models(here, models, now).items()}
    found = []
    for (number, part), one in here.items():
        if only and names[number] != only:
            continue
        used, life = now[number].since(one.odometer), fits[models[number], part]
        left = life.survives(used.hours + AHEAD_H) / max(life.survives(used.hours), 1e-300) if life else None
        found.append(
            w.FittedPart(
                machine=names[number], model=models[number], part=part, fitted=one.fitted, since=one.since,
                hours=used.hours, builds=used.builds, grams=dict(used.grams), life=life,
                left=None if left is None else min(left, 1.0), text=_text(used.hours, one.fitted is not None, life),
            )
        )  # fmt: skip
    return sorted(found, key=lambda one: (2.0 if one.left is None else one.left, one.part, one.machine))[:limit]


def _text(hours: float, known: bool, life: WeibullFit | None) -> str:
    """Four of five such parts last from one of the hours to the other."""
    at = f"at {hours:,.0f} h" if known else f"at {hours:,.0f} h or more"
    return f"usually lasts {life.early:,.0f} to {life.late:,.0f} h; {at}" if life else at


@router.get("/upkeep/calibration")
async def calibration(
    context: Context, fleet: TheFleet, keeper: TheUpkeepKeeper, machine: Annotated[str, ONLY] = "", limit: Most = 500
) -> list[w.CalibrationTrend]:
    """What each calibration check measured at each machine, the last 30 values, with control limits; the worst
    first."""
    only = fleet.find(machine).row.name if machine else ""
    names = {known.row.id: known.row.name for known in fleet.all()}
    checks = [one.mark for one in keeper.standings if one.mark.task.nominal is not None]
    async with context.sessions() as db:
        values = await last_values(db, {mark.task.id for mark in checks})
    found = []
    for mark in checks:
        name, task = names.get(mark.machine, ""), mark.task
        if not name or (only and name != only) or task.nominal is None or task.tolerance is None:
            continue
        rows = values.get((task.id, mark.machine), [])
        judged = judge([row.value or 0.0 for row in rows], task.nominal, task.tolerance, task.unit) if rows else None
        found.append(
            w.CalibrationTrend(
                task=task.id, name=task.name, machine=name, nominal=task.nominal, tolerance=task.tolerance,
                unit=task.unit, verdict=judged and judged.verdict, text=judged.text if judged else "never measured",
                limits=judged and judged.limits,
                readings=[fill(w.CheckReading, row) for row in rows],
            )
        )  # fmt: skip
    return sorted(found, key=lambda one: (WORST[one.verdict], one.name, one.machine))[:limit]
