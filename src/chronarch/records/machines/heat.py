"""Heat over time: readings as they came, their means by the minute and by the hour, and curves drawn from them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, Select, func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records.machines.tables import HeatReading, MeanReading, MeanSensorReading, SensorReading

MINUTE_S, HOUR_S = 60, 3600
HEATERS = ("nozzle", "bed", "chamber")
BELOW = ("power_w", "fan_pct")
"""What is kept beside the heat, as one value each: W, and % of the part fan."""
RAW_FOR, MINUTES_FOR = timedelta(days=7), timedelta(days=90)
MOST_POINTS = 1440
"""So that a day is drawn from means of minutes."""
AT_ONCE = timedelta(days=1)
MOST_REMOVED = 20_000
_EPOCH = datetime(2000, 1, 1, tzinfo=UTC)


Four = tuple[float | None, float | None, float | None, float | None]
"""The mean, least and most that was measured, and what was asked, °C."""


@dataclass(frozen=True)
class CurvePoint:
    """The readings of some time, by heater and by further sensor."""

    at: datetime
    values: dict[str, Four]
    below: dict[str, float | None]
    further: dict[str, Four]


@dataclass(frozen=True)
class Piece:
    """A part of a curve: from which kind of readings (`span_s`, 0 for those as they came), and its time."""

    span_s: int
    begin: datetime
    end: datetime


def step_for(begin: datetime, end: datetime) -> int:
    """Seconds that a point of a curve stands for."""
    return max(1, math.ceil((end - begin).total_seconds() / MOST_POINTS))


def pieces(begin: datetime, end: datetime, now: datetime, rolled: dict[int, datetime]) -> list[Piece]:
    """Where a curve is read from: from means where they are fine enough, or where nothing finer is kept; what is newer
    than the means (`rolled`: until when there are any, by their span) from finer ones."""
    step = step_for(begin, end)
    spans = [span for span in (HOUR_S, MINUTE_S) if step >= span]
    if begin < now - MINUTES_FOR and HOUR_S not in spans:
        spans.insert(0, HOUR_S)
    elif begin < now - RAW_FOR and not spans:
        spans.append(MINUTE_S)
    if HOUR_S in spans and MINUTE_S not in spans:
        spans.append(MINUTE_S)
    found, at = [], begin
    for span in spans:
        until = min(end, rolled.get(span, begin))
        if until > at:
            found.append(Piece(span, at, until))
            at = until
    if at < end:
        found.append(Piece(0, at, end))
    return found


async def rolled_until(db: AsyncSession, machines: Sequence[int]) -> dict[int, datetime]:
    """Until when there are means of any of these machines, by their span. Read from the end of each machine's index."""
    newest = select(MeanReading.span_s, func.max(MeanReading.at)).where(
        MeanReading.machine_id.in_(machines), MeanReading.span_s.in_((MINUTE_S, HOUR_S))
    )
    found: dict[int, datetime] = {}
    for span, at in await db.execute(newest.group_by(MeanReading.machine_id, MeanReading.span_s)):
        until = at + timedelta(seconds=span)
        found[span] = max(until, found.get(span, until))
    return found


async def curve(db: AsyncSession, machine: int, begin: datetime, end: datetime, now: datetime) -> list[CurvePoint]:
    """The readings of a machine between two times, at most about `MOST_POINTS` points."""
    step = step_for(begin, end)
    rows: list[CurvePoint] = []
    for piece in pieces(begin, end, now, await rolled_until(db, [machine])):
        rows += await _piece(db, machine, piece, step)
    return rows


async def _piece(db: AsyncSession, machine: int, piece: Piece, step: int) -> list[CurvePoint]:
    table, sensors = (MeanReading, MeanSensorReading) if piece.span_s else (HeatReading, SensorReading)

    def of_piece(source: Any, *columns: Any) -> Select[Any]:
        """The columns, by what each point of the piece stands for."""
        since = func.timestampdiff(text("second"), _EPOCH.replace(tzinfo=None), source.at)
        bucket = func.floor(since / max(step, piece.span_s)).label("bucket")
        query = select(bucket, *columns).where(
            source.machine_id == machine, source.at >= piece.begin, source.at < piece.end
        )
        if piece.span_s:
            query = query.where(source.span_s == piece.span_s)
        return query.group_by(bucket).order_by(bucket)

    def four(source: Any, prefix: str) -> list[ColumnElement[Any]]:
        extremes = [getattr(source, f"{prefix}{what}c") for what in (("least_", "most_") if piece.span_s else ("", ""))]
        measured, asked = getattr(source, f"{prefix}c"), getattr(source, f"{prefix}asked_c")
        return [func.avg(measured), func.min(extremes[0]), func.max(extremes[1]), func.max(asked)]

    columns = [column for heater in HEATERS for column in four(table, f"{heater}_")]
    below = [func.avg(getattr(table, name)) for name in BELOW]
    rows = await db.execute(of_piece(table, func.min(table.at), *columns, *below))
    points = {
        row[0]: CurvePoint(
            row[1].replace(tzinfo=UTC),
            {h: tuple(row[2 + 4 * n : 6 + 4 * n]) for n, h in enumerate(HEATERS)},
            dict(zip(BELOW, row[2 + 4 * len(HEATERS) :], strict=True)),
            {},
        )
        for row in rows
    }
    query = of_piece(sensors, sensors.sensor, *four(sensors, "")).group_by(sensors.sensor)
    for bucket, sensor, *values in await db.execute(query):
        if bucket in points:
            points[bucket].further[sensor] = tuple(values)
    return list(points.values())


async def roll_up(db: AsyncSession, machines: Sequence[int], until: datetime) -> None:
    """Make the means of minutes, and of hours, that are over by `until` and were not made yet. Machines are named, so
    that the index is used, which begins with them."""
    if not machines:
        return
    rolled, mine = await rolled_until(db, machines), f"machine_id in ({', '.join(map(str, machines))})"
    for span, source in ((MINUTE_S, None), (HOUR_S, MINUTE_S)):
        table = "reading" if source is None else "reading_mean"
        where = mine if source is None else f"{mine} and span_s = {source}"
        oldest = (
            f"select min(first) from (select min(at) as first from {table} where {where} group by machine_id) as firsts"
        )
        begin = rolled.get(span) or (await db.execute(text(oldest))).scalar()
        if begin is None:
            continue
        begin = _floor(begin.replace(tzinfo=UTC), span)
        end = _floor(min(until, begin + AT_ONCE), span)
        if end <= begin:
            continue
        times = {"begin": begin.replace(tzinfo=None), "end": end.replace(tzinfo=None)}
        bucket = f"timestampadd(second, {span} * floor(timestampdiff(second, '2000-01-01', at) / {span}), '2000-01-01')"
        for raw, means, prefixes, single, key in (
            ("reading", "reading_mean", [f"{h}_" for h in HEATERS], BELOW, ""),
            ("sensor_reading", "sensor_mean", [""], (), ", sensor"),
        ):
            names = [f"{p}c, {p}least_c, {p}most_c, {p}asked_c" for p in prefixes] + list(single)
            figures = [_of_four(p, means=source is not None) for p in prefixes] + [f"avg({name})" for name in single]
            await db.execute(
                text(
                    f"insert ignore into {means} (machine_id, span_s, at{key}, {', '.join(names)})"
                    f" select machine_id, {span}, {bucket}{key}, {', '.join(figures)}"
                    f" from {raw if source is None else means}"
                    f" where at >= :begin and at < :end and {where} group by machine_id, {bucket}{key}"
                ),
                times,
            )


def _of_four(prefix: str, *, means: bool) -> str:
    """The mean, least and most that was measured, and what was asked, of readings or of their means."""
    least, most = ("least_", "most_") if means else ("", "")
    return f"avg({prefix}c), min({prefix}{least}c), max({prefix}{most}c), max({prefix}asked_c)"


def _floor(at: datetime, span_s: int) -> datetime:
    return at - timedelta(seconds=(at - _EPOCH).total_seconds() % span_s)


READING_BYTES, MEAN_BYTES = 70, 100
SENSOR_READING_BYTES, SENSOR_MEAN_BYTES = 55, 70
"""About what a row takes in the database, its index with it."""


def most_bytes(machines: int, sensors: int) -> int:
    """What the heat of so many machines, and of so many further sensors of all of them, comes to at most, a year after
    they were added: readings once a second, the means of minutes, those of hours."""
    day_s = 86_400
    readings, means = RAW_FOR.days * day_s, MINUTES_FOR.days * day_s // MINUTE_S + 365 * 24
    return machines * (readings * READING_BYTES + means * MEAN_BYTES) + sensors * (
        readings * SENSOR_READING_BYTES + means * SENSOR_MEAN_BYTES
    )


async def now_bytes(db: AsyncSession) -> int:
    """What all heat takes in the database now, as the database itself estimates it."""
    query = text(
        "select sum(data_length + index_length) from information_schema.tables where table_schema = database()"
        " and table_name in ('reading', 'reading_mean', 'sensor_reading', 'sensor_mean')"
    )
    return int((await db.execute(query)).scalar() or 0)


async def forget_old(db: AsyncSession, machines: Sequence[int], now: datetime) -> None:
    """Remove readings and means of minutes that are older than they are kept, some at a time."""
    for machine in machines:
        for where, before in (
            ("reading where", now - RAW_FOR),
            ("sensor_reading where", now - RAW_FOR),
            (f"reading_mean where span_s = {MINUTE_S} and", now - MINUTES_FOR),
            (f"sensor_mean where span_s = {MINUTE_S} and", now - MINUTES_FOR),
        ):
            await db.execute(
                text(f"delete from {where} machine_id = :machine and at < :before limit {MOST_REMOVED}"),
                {"machine": machine, "before": before.replace(tzinfo=None)},
            )
