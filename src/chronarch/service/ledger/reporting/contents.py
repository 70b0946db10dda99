"""Gathers what a report says: figures beside those of the period before, charts, what has changed, what is due."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta, tzinfo
from typing import Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.change_point_kinds import ChangePointKind, sentence
from chronarch.core.ledger.measures import BY_NAME, WRITTEN, Unit
from chronarch.core.ledger.report_periods import ReportEvery, ReportPeriod
from chronarch.records import tables as t
from chronarch.service.ledger.figures_answer import answer_figures, figures_as_csv
from chronarch.service.machines.fleet import Fleet
from chronarch.service.planning.settings import load_settings
from chronarch.wire.ledger import figures as w

FIGURES = (
    "builds", "good", "scrap_share", "productive", "oee", "turnaround", "on_time", "grams", "wh", "cost", "hands",
)  # fmt: skip
BETTER_LOW = frozenset({"scrap_share", "turnaround", "cost", "hands"})
"""What people want less of."""
OF_MACHINES = (
    "builds", "good", "scrap", "scrap_share", "productive", "availability", "effectiveness", "quality", "oee", "grams",
    "wh", "cost",
)  # fmt: skip
"""What the table that is attached has of each machine."""
MOST_BARS = 12
SLIGHT = 0.005
"""A change by less than this share of the figure is none."""


@dataclass(frozen=True)
class ReportFigure:
    """A figure in words, beside what it was; `better` says whether the change is a good one; None: it is neither."""

    title: str
    value: str
    before: str
    change: str
    better: bool | None


@dataclass(frozen=True)
class ReportBar:
    name: str
    value: str
    share: float
    """Of the longest bar, 0 to 1."""


@dataclass(frozen=True)
class ReportChart:
    title: str
    bars: tuple[ReportBar, ...]
    more: str = ""
    """What is left out."""


@dataclass(frozen=True)
class ReportContents:
    """What one report says. `rows` is a table of all machines, as CSV (RFC 4180)."""

    shop: str
    name: str
    of: str
    period: str
    before: str
    figures: tuple[ReportFigure, ...]
    charts: tuple[ReportChart, ...]
    changed: tuple[str, ...]
    due: tuple[str, ...]
    rows: str
    made: str
    address: str


async def gather(
    db: AsyncSession, fleet: Fleet, plan: t.ReportPlan, period: ReportPeriod, now: datetime, shop: str, address: str
) -> ReportContents:
    every, settings = ReportEvery(plan.every), await load_settings(db)
    zone = settings.zone(plan.site)
    narrowed = {"site": plan.site, "group": plan.group}

    async def asked(measures: Sequence[str], by: str = "", against: bool = False) -> w.FiguresReport:
        said: dict[str, Any] = {"measure": list(measures), "by": [by] if by else [], **narrowed}
        if against:
            said |= {"against_from": period.before[0], "against_to": period.before[1]}
        return await answer_figures(db, fleet, w.FiguresAsked.model_validate(said), period.begin, period.end, now)

    whole = await asked(FIGURES, against=True)
    machines = await asked(OF_MACHINES, "machine")
    shown = [one for one in machines.rows if one.figures["builds"] or one.figures["productive"]]
    each = "hour" if every is ReportEvery.SHIFT else "day"
    built, scrap = await asked(["builds"], each), await asked(["scrap"], "scrap_reason")
    charts = (
        _chart("Productive share by machine", "productive", shown),
        _chart(f"Builds by {each}", "builds", built.rows, ordered=True),
        _chart("Why builds were scrap", "scrap", scrap.rows, unnamed="no reason given"),
    )
    return ReportContents(
        shop, plan.name, " · ".join(one for one in (plan.site, plan.group) if one),
        _span(period.begin, period.end, zone, every), _span(*period.before, zone, every),
        tuple(_figure(whole, name) for name in FIGURES if whole.total.figures[name] is not None), charts,
        tuple(await _changed(db, period)), tuple(_due(fleet, plan)), figures_as_csv(machines),
        f"{now.astimezone(zone):%a %d %b %Y, %H:%M}", address,
    )  # fmt: skip


def _figure(report: w.FiguresReport, name: str) -> ReportFigure:
    measure, now = BY_NAME[name], report.total.figures[name]
    against = report.total.against or {}
    built = against.get("builds")
    recorded = against.get("productive") is not None or (built is not None and built.value > 0)
    before = against.get(name) if recorded else None
    assert now is not None
    write = WRITTEN[measure.unit]
    money = f" {report.currency}" if measure.unit is Unit.MONEY else ""
    change, better = "", None
    if before is not None:
        by = now.value - before.value
        if abs(by) > SLIGHT * max(abs(before.value), 1e-9):
            amount = f"{100 * abs(by):.1f} points" if measure.unit is Unit.SHARE else write(abs(by))
            change = f"{'+' if by > 0 else '−'}{amount}"
            better = None if name in ("builds", "grams", "wh") else (by < 0) == (name in BETTER_LOW)
    value, was = f"{write(now.value)}{money}", f"{write(before.value)}{money}" if before else "–"
    return ReportFigure(measure.title, value, was, change, better)


def _chart(
    title: str, name: str, rows: Iterable[w.FigureRow], *, ordered: bool = False, unnamed: str = "none"
) -> ReportChart:
    write = WRITTEN[BY_NAME[name].unit]
    found = [(_label(row.key[0]) or unnamed, figure.value) for row in rows if (figure := row.figures[name])]
    found = [one for one in found if one[1] > 0 or ordered]
    if not ordered:
        found.sort(key=lambda one: -one[1])
    kept = found if ordered else found[:MOST_BARS]
    most = max((value for _, value in kept), default=0.0) or 1.0
    more = f"and {len(found) - len(kept)} more" if len(found) > len(kept) else ""
    return ReportChart(title, tuple(ReportBar(label, write(value), value / most) for label, value in kept), more)


def _label(key: str) -> str:
    """A day as people say it, an hour of the day; anything else as it is."""
    try:
        return f"{datetime.fromisoformat(key):%a %d %b}" if len(key) == 10 else f"{int(key):02}:00"
    except ValueError:
        return key


def _span(begin: datetime, end: datetime, zone: tzinfo, every: ReportEvery) -> str:
    a, b = begin.astimezone(zone), end.astimezone(zone)
    if every is ReportEvery.SHIFT:
        return f"{a:%a %d %b %Y, %H:%M} to {b:%H:%M}"
    if every is ReportEvery.MONTH:
        return f"{a:%B %Y}"
    return f"{a:%a %d %b} to {b - timedelta(minutes=1):%a %d %b %Y}"


async def _changed(db: AsyncSession, period: ReportPeriod) -> list[str]:
    """What has changed beyond chance and is still so, newest first."""
    rows = t.ChangePoint
    query = select(rows).where(rows.over_at.is_(None), rows.since < period.end).order_by(rows.since.desc()).limit(8)
    return [
        sentence(ChangePointKind(row.kind), row.subject, row.before, row.after)
        + (f" (seen: {row.note})" if row.note else "")
        for row in (await db.execute(query)).scalars()
    ]


def _due(fleet: Fleet, plan: t.ReportPlan) -> list[str]:
    """Upkeep that is due at the machines that the report is about."""
    here = [
        known for known in fleet.all()
        if plan.site in ("", known.row.site) and (not plan.group or plan.group in known.row.tags)
    ]  # fmt: skip
    return [f"{known.row.name}: {call.sentence}" for known in here for call in known.upkeep][:20]
