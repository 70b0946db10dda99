"""Answers what is asked of the records in figures."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.calendar import TimePart
from chronarch.core.ledger.measures import BY_NAME, COUNTS, MEASURES, SECONDS, Basis, Measure, counted
from chronarch.core.ledger.turnaround import EPOCH
from chronarch.records.ledger.build_search import conditions
from chronarch.service.ledger.costs import load_cost_settings
from chronarch.service.ledger.figures import TIME_PARTS, Gathering, Key, Sums
from chronarch.service.machines.fleet import Fleet
from chronarch.service.machines.machine_groups import MACHINE_PARTS, machines_like
from chronarch.service.planning.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import fill
from chronarch.wire.ledger import figures as w
from chronarch.wire.ledger.history import BuildSearch

MOST_ROWS = 5000
LONGEST = timedelta(days=366 * 20)
LONGEST_BY_HOUR = timedelta(days=366 * 2)
OF_BUILDS = ("part", "file", "material", "colour", "customer", "person")
"""What narrows builds alone."""
OF_ALL = frozenset((*MACHINE_PARTS, *TIME_PARTS, w.FigurePart.STOP_REASON))
"""What is no part of builds."""
RUNNING = frozenset((w.FigurePart.MONTH, w.FigurePart.WEEK, w.FigurePart.DAY))
"""Parts of the calendar that come once, so that another time has others."""
Reach = tuple[int, int]


def measure_info(m: Measure) -> w.MeasureInfo:
    words = SECONDS | COUNTS
    counts = [w.CountInfo(name=name, title=words[name], seconds=name in SECONDS) for name in m.counts]
    return w.MeasureInfo(name=m.name, title=m.title, unit=m.unit, source=m.source, formula=m.formula, counts=counts)


async def answer_figures(
    db: AsyncSession, fleet: Fleet, asked: w.FiguresAsked, begin: datetime, end: datetime, now: datetime
) -> w.FiguresReport:
    """The figures of begin..end, beside those of another time if wished. Raises ApiProblem (422)."""
    wanted = _measures(asked)
    before = _against(asked, begin, end)
    _not_too_much(asked, begin, end)
    machines = machines_like(fleet, asked)
    where = await conditions(db, BuildSearch(**{name: getattr(asked, name) for name in OF_BUILDS}), None, now)
    sources, counts = {m.source for m in wanted}, {name for m in wanted for name in (m.name, *m.counts)}
    settings, currency = await load_settings(db), (await load_cost_settings(db)).currency
    parts = Gathering(asked.by, machines, settings, sources, counts, where)
    whole = parts.whole()
    found = await parts.between(db, begin, end, now)
    total = await whole.between(db, begin, end, now) if asked.by else found
    found_before = await parts.between(db, *before, now) if before and not RUNNING & set(asked.by) else None
    total_before = await whole.between(db, *before, now) if before else None
    if len(found.sums) > MOST_ROWS:
        raise ApiProblem(422, f"That is {len(found.sums)} rows; at most {MOST_ROWS} are given. Ask for a shorter time.")
    rows = [
        w.FigureRow(
            key=list(key),
            figures=_figures(wanted, sums),
            against=None if found_before is None else _figures(wanted, found_before.sums.get(key, {})),
            builds=_behind(asked, key, found.reach.get(key), begin, end),
        )
        for key, sums in sorted(found.sums.items())
        if asked.by
    ]
    all_of_it = w.FigureRow(
        key=[],
        figures=_figures(wanted, total.sums.get((), {})),
        against=None if total_before is None else _figures(wanted, total_before.sums.get((), {})),
        builds=_behind(asked, (), None, begin, end),
    )
    return w.FiguresReport(
        begin=begin, end=end, against_begin=before[0] if before else None, against_end=before[1] if before else None,
        by=asked.by, currency=currency, measures=[measure_info(m) for m in wanted], rows=rows, total=all_of_it,
    )  # fmt: skip


def _measures(asked: w.FiguresAsked) -> list[Measure]:
    """The measures that are asked for. Raises ApiProblem (422) for one that is not known, or cannot be asked so."""
    unknown = [name for name in asked.measure if name not in BY_NAME]
    if unknown:
        raise ApiProblem(422, f"There is no measure {unknown[0]!r}; there are {', '.join(BY_NAME)}.")
    wanted = [BY_NAME[name] for name in dict.fromkeys(asked.measure)]
    if len(set(asked.by)) < len(asked.by):
        raise ApiProblem(422, f"{asked.by[0]} is asked by twice.")
    not_stops = [m for m in wanted if m.source is not Basis.STOPS]
    if w.FigurePart.STOP_REASON in asked.by and not_stops:
        raise ApiProblem(422, f"{not_stops[0].title} has no stop reason; ask for stops or stopped by it.")
    builds_only = [str(part) for part in asked.by if part not in OF_ALL]
    builds_only += [name for name in OF_BUILDS if getattr(asked, name)]
    of_machines = [m for m in wanted if m.source is not Basis.BUILDS]
    if builds_only and of_machines:
        raise ApiProblem(
            422,
            f"{of_machines[0].title} is of machines' time, which has no {builds_only[0].replace('_', ' ')}. Ask for it"
            f" by {', '.join([*MACHINE_PARTS, *TimePart])}, or for measures of builds: "
            f"{', '.join(m.name for m in MEASURES if m.source is Basis.BUILDS)}.",
        )
    return wanted


def _against(asked: w.FiguresAsked, begin: datetime, end: datetime) -> tuple[datetime, datetime] | None:
    """The time that is compared with, if any. Raises ApiProblem (422)."""
    if asked.against_begin and asked.against_end:
        if asked.against_begin >= asked.against_end:
            raise ApiProblem(422, "The time to compare with ends before it begins.")
        return asked.against_begin, asked.against_end
    if asked.against_begin or asked.against_end:
        raise ApiProblem(422, "Of the time to compare with, say both against_from and against_to.")
    return (begin - (end - begin), begin) if asked.against == "before" else None


def _not_too_much(asked: w.FiguresAsked, begin: datetime, end: datetime) -> None:
    most = LONGEST_BY_HOUR if w.FigurePart.HOUR in asked.by else LONGEST
    spans = [(begin, end)]
    if asked.against_begin and asked.against_end:
        spans.append((asked.against_begin, asked.against_end))
    for one in spans:
        if one[1] - one[0] > most:
            raise ApiProblem(422, f"Ask for at most {most.days} days at a time.")


def _figures(wanted: Sequence[Measure], sums: Sums) -> dict[str, w.Figure | None]:
    found: dict[str, w.Figure | None] = {}
    for measure in wanted:
        figure = measure.of(sums)
        found[measure.name] = None if figure is None else fill(w.Figure, figure, counted=counted(measure, sums))
    return found


def _behind(
    asked: w.FiguresAsked, key: Key, reach: Reach | None, begin: datetime, end: datetime
) -> dict[str, str] | None:
    """What the history of builds is asked for the builds behind a row; None for rows of what has no name."""
    wish = {name: value for name in (*MACHINE_PARTS, *OF_BUILDS) if (value := getattr(asked, name))}
    for part, label in zip(asked.by, key, strict=False):
        if not label:
            return None
        if part not in RUNNING:
            wish[part] = label
        elif reach is not None:
            begin, end = max(begin, _at(reach[0])), min(end, _at(reach[1]))
    return {**wish, "ended_from": begin.isoformat(), "ended_to": end.isoformat()}


def _at(microseconds: int) -> datetime:
    return EPOCH + timedelta(microseconds=microseconds)


def figures_as_csv(report: w.FiguresReport) -> str:
    """RFC 4180: a row for each, everything together last; intervals beside their figures."""
    out = io.StringIO()
    table = csv.writer(out)
    names = [m.name for m in report.measures]
    table.writerow([*report.by, *(f"{name}{more}" for name in names for more in ("", "_low", "_high"))])
    for row in [*report.rows, report.total]:
        cells: list[Any] = []
        for name in names:
            figure = row.figures[name]
            cells += ["", "", ""] if figure is None else [figure.value, figure.low, figure.high]
        table.writerow([*(row.key or ["all"] * bool(report.by) + [""] * (len(report.by) - 1)), *cells])
    return out.getvalue()
