"""Heat over time: readings as they came, their means by the minute and by the hour, and curves drawn from them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records.machines.tables import HeatReading, MeanReading

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


@dataclass(frozen=True)
class CurvePoint:
    """The readings of some time: by heater the mean, least and most that was measured, and what was asked, °C."""

    at: datetime
    values: dict[str, tuple[float | None, float | None, float | None, float | None]]
    below: dict[str, float | None]


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
    table = MeanReading if piece.span_s else HeatReading
    since = func.timestampdiff(text("second"), _EPOCH.replace(tzinfo=None), table.at)
    bucket = func.floor(since / max(step, piece.span_s)).label("bucket")
    columns: list[ColumnElement[float]] = []
    for heater in HEATERS:
        measured = getattr(table, f"{heater}_c")
        least = getattr(table, f"{heater}_least_c") if piece.span_s else measured
        most = getattr(table, f"{heater}_most_c") if piece.span_s else measured
        columns += [func.avg(measured), func.min(least), func.max(most), func.max(getattr(table, f"{heater}_asked_c"))]
    columns += [func.avg(getattr(table, name)) for name in BELOW]
    query = select(func.min(table.at), *columns).where(
        table.machine_id == machine, table.at >= piece.begin, table.at < piece.end
    )
    if table is MeanReading:
        query = query.where(MeanReading.span_s == piece.span_s)
    rows = await db.execute(query.group_by(bucket).order_by(bucket))
    return [
        CurvePoint(
            row[0].replace(tzinfo=UTC),
            {h: tuple(row[1 + 4 * n : 5 + 4 * n]) for n, h in enumerate(HEATERS)},  # type: ignore[misc]
            dict(zip(BELOW, row[1 + 4 * len(HEATERS) :], strict=True)),  # type: ignore[arg-type]
        )
        for row in rows
    ]


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
        figures = []
        for h in HEATERS:
            least, most = (f"{h}_c", f"{h}_c") if source is None else (f"{h}_least_c", f"{h}_most_c")
            figures.append(f"avg({h}_c), min({least}), max({most}), max({h}_asked_c)")
        figures += [f"avg({name})" for name in BELOW]
        names = ", ".join([*(f"{h}_c, {h}_least_c, {h}_most_c, {h}_asked_c" for h in HEATERS), *BELOW])
        bucket = f"timestampadd(second, {span} * floor(timestampdiff(second, '2000-01-01', at) / {span}), '2000-01-01')"
        await db.execute(
            text(
                f"insert ignore into reading_mean (machine_id, span_s, at, {names})"
                f" select machine_id, {span}, {bucket}, {', '.join(figures)} from {table}"
                f" where at >= :begin and at < :end and {where} group by machine_id, {bucket}"
            ),
            {"begin": begin.replace(tzinfo=None), "end": end.replace(tzinfo=None)},
        )


def _floor(at: datetime, span_s: int) -> datetime:
    return at - timedelta(seconds=(at - _EPOCH).total_seconds() % span_s)


READING_BYTES, MEAN_BYTES = 70, 100
"""About what a row takes in the database, its index with it."""


def most_bytes(machines: int) -> int:
    """What so many machines' heat comes to at most, a year after they were added: readings once a second, the means of
    minutes, those of hours."""
    day_s = 86_400
    readings = RAW_FOR.days * day_s * READING_BYTES
    means = (MINUTES_FOR.days * day_s // MINUTE_S + 365 * 24) * MEAN_BYTES
    return machines * (readings + means)


async def now_bytes(db: AsyncSession) -> int:
    """What all heat takes in the database now, as the database itself estimates it."""
    query = text(
        "select sum(data_length + index_length) from information_schema.tables"
        " where table_schema = database() and table_name in ('reading', 'reading_mean')"
    )
    return int((await db.execute(query)).scalar() or 0)


async def forget_old(db: AsyncSession, machines: Sequence[int], now: datetime) -> None:
    """Remove readings and means of minutes that are older than they are kept, some at a time."""
    for machine in machines:
        for where, before in (
            ("reading where", now - RAW_FOR),
            (f"reading_mean where span_s = {MINUTE_S} and", now - MINUTES_FOR),
        ):
            await db.execute(
                text(f"delete from {where} machine_id = :machine and at < :before limit {MOST_REMOVED}"),
                {"machine": machine, "before": before.replace(tzinfo=None)},
            )
