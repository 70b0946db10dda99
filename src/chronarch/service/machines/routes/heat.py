"""Heat over time."""

from __future__ import annotations

import csv
import io
from datetime import datetime, timedelta

from fastapi import APIRouter, Response

from chronarch.core.bounds import Named
from chronarch.records.machines import heat as records
from chronarch.service.background import TheBackground
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import Fleet, TheFleet
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import GivenTime
from chronarch.wire.machines.heat import HeatCurve, HeaterCurve, HeatStanding

router = APIRouter(tags=["machines"], route_class=RetryingRoute)
USUAL = timedelta(hours=1)
NOTHING: records.Four = (None, None, None, None)


async def _points(
    background: TheBackground, context: ServiceContext, fleet: Fleet, name: str, begin: datetime | None,
    end: datetime | None,
) -> tuple[datetime, datetime, list[records.CurvePoint]]:  # fmt: skip
    """The span that is meant, and its points. Raises ApiProblem (404, 422)."""
    machine, now = fleet.find(name).row.id, context.clock.now()
    until = end or now
    since = begin or until - USUAL
    if since >= until:
        raise ApiProblem(422, "The begin must come before the end.")
    points = await background.run(lambda db: records.curve(db, machine, since, until, now))
    return since, until, points


@router.get("/heat/standing")
async def standing(background: TheBackground, fleet: TheFleet) -> HeatStanding:
    """What heat over time takes in the database, and what it comes to."""
    now = await background.run(records.now_bytes)
    samples = [known.sample for known in fleet.all() if known.sample]
    sensors = sum(len(sample.reading.further) for sample in samples if sample.reading)
    return HeatStanding(now_gb=now / 1e9, most_gb=records.most_bytes(len(fleet.all()), sensors) / 1e9)


@router.get("/machines/{name}/heat")
async def heat(
    name: Named, background: TheBackground, context: Context, fleet: TheFleet, begin: GivenTime | None = None,
    end: GivenTime | None = None,
) -> HeatCurve:  # fmt: skip
    """Heat between two times (by default the last hour), in about 1,440 points at most: as it was measured for seven
    days, by the minute for ninety, by the hour after that."""
    since, until, points = await _points(background, context, fleet, name, begin, end)
    heaters = {h: _curve([p.values[h] for p in points]) for h in records.HEATERS}
    further = {s: _curve([p.further.get(s, NOTHING) for p in points]) for s in _sensors(points)}
    return HeatCurve(
        step_s=records.step_for(since, until), at=[round(p.at.timestamp(), 3) for p in points],
        nozzle=heaters["nozzle"], bed=heaters["bed"], chamber=heaters["chamber"],
        further={sensor: curve for sensor, curve in further.items() if curve},
        **{name: _below(points, name) for name in records.BELOW},
    )  # fmt: skip


def _below(points: list[records.CurvePoint], name: str) -> list[float | None] | None:
    values = [p.below[name] for p in points]
    if all(value is None for value in values):
        return None
    return [None if value is None else round(value, 1) for value in values]


def _sensors(points: list[records.CurvePoint]) -> list[str]:
    return sorted({sensor for point in points for sensor in point.further})


def _curve(rows: list[records.Four]) -> HeaterCurve | None:
    if all(value is None for row in rows for value in row):
        return None
    columns = [[None if value is None else round(value, 1) for value in column] for column in zip(*rows, strict=True)]
    measured, least, most, asked = columns
    return HeaterCurve(measured=measured, least=least, most=most, asked=asked)


@router.get("/machines/{name}/heat.csv", response_class=Response, responses={200: {"content": {"text/csv": {}}}})
async def heat_csv(
    name: Named, background: TheBackground, context: Context, fleet: TheFleet, begin: GivenTime | None = None,
    end: GivenTime | None = None,
) -> Response:  # fmt: skip
    """The same as CSV (RFC 4180): times as ISO 8601, temperatures in °C, power in W, the fan in %."""
    _, _, points = await _points(background, context, fleet, name, begin, end)
    out = io.StringIO(newline="")
    table = csv.writer(out)
    whats = ("measured", "least", "most", "asked")
    sensors = _sensors(points)
    names = [*records.HEATERS, *(sensor.replace(" ", "_") for sensor in sensors)]
    table.writerow(["at", *(f"{name}_{what}_c" for name in names for what in whats), *records.BELOW])
    for point in points:
        heat = [*(point.values[h] for h in records.HEATERS), *(point.further.get(s, NOTHING) for s in sensors)]
        values = [*(value for four in heat for value in four), *point.below.values()]
        table.writerow([point.at.isoformat(), *("" if v is None else f"{v:.1f}" for v in values)])
    headers = {"Content-Disposition": 'attachment; filename="heat.csv"'}
    return Response(out.getvalue(), media_type="text/csv", headers=headers)
