"""The shop's plan: what the records say put into a snapshot, planned, run forward, and kept until something changes."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta, tzinfo
from math import exp, inf, log
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.dispatch import NeedRow, Plan, Snapshot, Work, Workplace, make_plan
from chronarch.core.dispatch.shop import Nozzle, Phase, Spool
from chronarch.core.forecast import Forecast, Past, Running, forecast
from chronarch.core.hours import ALWAYS, Hours, Span, Staffing
from chronarch.core.matching import KINDS, LASTING, Need, Standing, blocker
from chronarch.core.states import Intake, MachineState, Outcome
from chronarch.records import queries
from chronarch.records import tables as t
from chronarch.service.fleet import Known
from chronarch.wire.shop import Planning, SiteHours

if TYPE_CHECKING:
    from chronarch.service.dispatch import Waiting
    from chronarch.service.shop import Shop

LOOK_AHEAD = timedelta(days=60)
PAST_FOR = timedelta(seconds=20)
GOOD_FOR = timedelta(seconds=3)
LEARN_FROM = 400
AMBIENT_C, USUAL_BED_C = 22.0, 60.0
PAUSED_S = 900.0
"""How long a paused build is taken to stay so."""
LONGEST_LEFT_S = 3.2e8
"""Ten years: no file that is taken lasts longer, whatever a tender says is left of it."""
OLD = timedelta(hours=6)
"""A plan so old is made anew from nothing."""


@dataclass
class Settings:
    """What the shop has decided: how it plans, and hours by site (`""`: its own)."""

    planning: Planning = field(default_factory=Planning)
    hours: dict[str, SiteHours] = field(default_factory=dict)

    def zone(self, site: str = "") -> tzinfo:
        hours = self.hours.get(site) or self.hours.get("")
        return ZoneInfo(hours.zone if hours else "UTC")

    def core(self, site: str) -> Hours:
        """A site's hours; somebody is always there where nobody said when."""
        found = self.hours.get(site) or self.hours.get("")
        return found.core() if found else ALWAYS

    def is_staffed(self, at: datetime, site: str = "") -> bool:
        """Whether somebody is at a site."""
        return self.staffing(at - timedelta(days=1), at + timedelta(minutes=1), site).span_at(at) is not None

    def staffing(self, begin: datetime, end: datetime, site: str = "") -> Staffing:
        return Staffing(self.core(site).spans(begin, end))


async def load_settings(db: AsyncSession) -> Settings:
    row = await db.get(t.Setting, "planning")
    sites = (await db.execute(select(t.Site))).scalars()
    hours = {s.name: SiteHours.model_validate(s.hours) for s in sites}
    return Settings(Planning.model_validate(row.value) if row else Planning(), hours)


@dataclass
class Planned:
    """A plan with what it was made from."""

    snapshot: Snapshot
    plan: Plan
    running: list[Running]
    models: dict[str, str]
    waiting: dict[int, Waiting]
    dues: dict[int, datetime]
    settings: Settings
    past: Past
    _forecast: Forecast | None = None

    def forecast(self) -> Forecast:
        if self._forecast is None:
            self._forecast = forecast(
                self.snapshot, self.plan, self.running, self.past, self.models, dues=self.dues
            )  # fmt: skip
        return self._forecast

    def forecast_of(self, snapshot: Snapshot, plan: Plan) -> Forecast:
        """The same for another plan: machines that are not the shop's are taken for the like of their name."""
        models = {m.name: self.models.get(m.name) or self.models[m.name.split(" + ")[0]] for m in snapshot.machines}
        dues = {w.job: snapshot.at + timedelta(seconds=w.due_s) for w in snapshot.work if w.due_s < inf}
        return forecast(snapshot, plan, self.running, self.past, models, dues={**self.dues, **dues})


class Planner:
    """Keeps the newest plan. `renew` is called whenever something may have changed."""

    def __init__(self) -> None:
        self.last: Planned | None = None
        self._lock = asyncio.Lock()
        self._made = -1
        self._made_at: datetime | None = None
        self._past: Past | None = None
        self._past_at: datetime | None = None

    async def current(self, shop: Shop, db: AsyncSession) -> Planned:
        """The newest plan, where it is a moment old and no record has changed since; else a new one."""
        now = shop.clock.real_now()
        if (
            self.last is not None
            and self._made == shop.hub.changes
            and self._made_at
            and now - self._made_at < GOOD_FOR
        ):
            return self.last
        return await self.renew(shop, db)

    async def renew(self, shop: Shop, db: AsyncSession, waiting: Sequence[Waiting] | None = None) -> Planned:
        """The plan as things are now: what people have seen of the one before stays where it can."""
        from chronarch.service.dispatch import waiting_jobs

        async with self._lock:
            settings = await load_settings(db)
            shop.fleet.zone = settings.zone()
            if waiting is None:
                waiting = await waiting_jobs(db)
            planned = await self._snapshot(shop, db, settings, waiting)
            before, fresh = self._before(planned.snapshot, settings)
            if len(planned.snapshot.work) * len(planned.snapshot.machines) > 20_000:
                planned.plan = await asyncio.to_thread(make_plan, planned.snapshot, before, fresh)
            else:
                planned.plan = make_plan(planned.snapshot, before, fresh)
            if self.last is None or _shape(self.last.plan) != _shape(planned.plan):
                shop.hub.changed("plan")
            self.last = planned
            self._made, self._made_at = shop.hub.changes, shop.clock.real_now()
            return planned

    def _before(self, now: Snapshot, settings: Settings) -> tuple[Plan | None, frozenset[int]]:
        """The plan before, where it still holds, and the jobs that have changed since."""
        last = self.last
        if last is None or now.at - last.plan.at > OLD or last.settings != settings:
            return None, frozenset()
        then = last.snapshot
        if _up(then) != _up(now) or not _same_order(then, now):
            return None, frozenset()
        had = {w.job: w for w in then.work}
        gone = (now.at - then.at) / timedelta(seconds=1)
        return last.plan, frozenset(w.job for w in now.work if w.job in had and _changed(had[w.job], w, gone))

    async def past(self, shop: Shop, db: AsyncSession) -> Past:
        now = shop.clock.real_now()
        if self._past is None or self._past_at is None or now - self._past_at > PAST_FOR:
            settings = await load_settings(db)
            self._past, self._past_at = await learn(db, settings, shop.clock.now()), now
        return self._past

    async def _snapshot(self, shop: Shop, db: AsyncSession, settings: Settings, waiting: Sequence[Waiting]) -> Planned:
        at = shop.clock.now()
        fleet = shop.fleet.all()
        paces = {name: p.pace for name, p in (await shop.paces(db)).items()}
        windows = await _upkeep(db, at)
        pinned = {w.requirement.machine for w in waiting}
        multi = any(len(w.variants) > 1 for w in waiting)
        standings = {k.row.name: shop.fleet.standing(k) for k in fleet}
        kinds = {k.row.name: _kind(k, standings[k.row.name], pinned, multi) for k in fleet}
        machines, running = [], []
        for known in fleet:
            place, run = _workplace(known, standings[known.row.name], kinds[known.row.name], at, paces)
            machines.append(replace(place, upkeep=windows.get(known.row.id, ())))
            if run is not None:
                running.append(run)
        by_kind: dict[Any, Standing] = {}
        for name, kind in kinds.items():
            by_kind.setdefault(kind, standings[name])
        copies = await queries.copies_of(db, [w.job for w in waiting])
        rows: dict[str, NeedRow] = {}
        work, dues = [], {}
        for w in waiting:
            need = _need_row(w, by_kind, paces)
            row = rows.setdefault(repr(need), need)
            pieces = min((k.file.pieces for k in w.variants), default=1)
            due = w.job.due_at
            if due is not None:
                dues[w.job.id] = due
            work.append(
                Work(
                    w.job.id, copies[w.job.id].builds(pieces), row, w.job.line, w.job.top, w.job.priority,
                    _until(due, at), 0.0 if w.job.not_before is None else max(0.0, _until(w.job.not_before, at)),
                )
            )  # fmt: skip
        for r in running:
            job = await db.get(t.Job, r.job)
            if job is not None and job.due_at is not None:
                dues[r.job] = job.due_at
        spans = {site: self._spans(settings, site, at) for site in {"", *(m.site for m in machines)}}
        spares = await _spares(db)
        costs = settings.planning.costs()
        snapshot = Snapshot(at, tuple(machines), tuple(work), spans, spares, costs, settings.planning.strategy)
        models = {k.row.name: k.model.name for k in fleet}
        empty = Plan(at, snapshot.strategy, ())
        past = await self.past(shop, db)
        return Planned(snapshot, empty, running, models, {w.job.id: w for w in waiting}, dues, settings, past)

    @staticmethod
    def _spans(settings: Settings, site: str, at: datetime) -> tuple[tuple[Span, ...], int]:
        hours = settings.core(site)
        return tuple(hours.spans(at, at + LOOK_AHEAD)), hours.people


def _shape(plan: Plan) -> list[tuple[str, int]]:
    return [(a.machine, a.job) for a in plan.assignments[:200]]


def _up(shop: Snapshot) -> set[tuple[str, bool, bool]]:
    return {(m.name, m.takes, m.phase is Phase.AWAY) for m in shop.machines}


def _same_order(then: Snapshot, now: Snapshot) -> bool:
    """Whether the jobs that wait at both times stand in the same order."""
    both = {w.job for w in then.work} & {w.job for w in now.work}
    orders = ([w.job for w in sorted(s.work, key=lambda w: w.line) if w.job in both] for s in (then, now))
    return next(orders) == next(orders)


def _changed(old: Work, new: Work, gone: float) -> bool:
    """Whether a job presses otherwise than it did, so that it may take another place."""
    same_due = new.due_s == old.due_s or abs(new.due_s + gone - old.due_s) < 1
    return not same_due or (new.priority, new.top) != (old.priority, old.top) or new.builds > old.builds


def _until(when: datetime | None, at: datetime) -> float:
    return inf if when is None else (when - at) / timedelta(seconds=1)


def _kind(known: Known, at: Standing, pinned: Iterable[str], multi: bool) -> tuple[Any, ...]:
    """What makes machines interchangeable for what is planned: what they are for, not what is loaded; but the nozzle
    where a part has files for several."""
    row = known.row
    nozzle = [(tool.nozzle_mm, tool.hardened) for tool in at.capability.tools] if multi else []
    name = row.name if row.name in pinned or len(at.capability.tools) > 1 else ""
    return (known.model.name, tuple(sorted(row.pools)), tuple(sorted(row.tags)), tuple(nozzle), name)


def _cool_s(known: Known) -> float:
    """How long a bed of 60 °C takes until hands may touch it, by Newton's law of cooling."""
    release = max(known.model.release_c, AMBIENT_C + 2)
    if release >= USUAL_BED_C:
        return 0.0
    return known.model.bed_heat.cooling_s * log((USUAL_BED_C - AMBIENT_C) / (release - AMBIENT_C))


def _left_to_cool_s(known: Known, at: datetime) -> float:
    reading = known.sample.reading if known.sample else None
    bed = reading.bed.measured_c if reading else None
    if bed is None:
        return max(0.0, _cool_s(known) - (at - known.row.since) / timedelta(seconds=1))
    release = max(known.model.release_c, AMBIENT_C + 2)
    return known.model.bed_heat.cooling_s * log((bed - AMBIENT_C) / (release - AMBIENT_C)) if bed > release else 0.0


def _workplace(
    known: Known, at: Standing, kind: tuple[Any, ...], now: datetime, paces: dict[str, float]
) -> tuple[Workplace, Running | None]:
    row, brief = known.row, known.brief
    live = known.sample.build if known.sample else None
    running = None
    phase, free, idle = Phase.CLEAR, 0.0, 0.0
    cool = _cool_s(known)
    state = at.state
    if state in (MachineState.DOWN, MachineState.SERVICE, MachineState.OFFLINE) or not at.reachable:
        phase = Phase.AWAY
    elif state is MachineState.COOLING:
        phase, free = Phase.OCCUPIED, _left_to_cool_s(known, now)
    elif state is MachineState.UNCLEARED:
        phase = Phase.OCCUPIED
    elif brief is not None and brief.outcome is None:
        left = live.remaining_s if live is not None and live.id == brief.id else None
        if left is None:
            begun = brief.started_at or now
            planned = known.planned_s * paces.get(known.model.name, 1.0)
            left = max(60.0, planned - (now - begun) / timedelta(seconds=1))
        left = min(max(left, 0.0), LONGEST_LEFT_S)
        left += PAUSED_S if state is MachineState.PAUSED else 0.0
        phase, free = Phase.OCCUPIED, left + cool
        running = Running(row.name, brief.job, left)
    else:
        idle = max(0.0, (now - row.since) / timedelta(seconds=1))
    if running is None and brief is not None and phase is Phase.OCCUPIED:
        running = Running(row.name, brief.job, 0.0)
    tool = at.capability.tools[0]
    spool = Spool(tool.material, tool.colour, inf if tool.grams is None else tool.grams)
    releases = known.model.releases
    place = Workplace(
        row.name, kind, phase, free, idle, row.site, spool, Nozzle(tool.nozzle_mm, tool.hardened),
        at.intake is Intake.MANUAL, at.intake is not Intake.CLOSED, cool, releases,
        min(releases, row.releases_left) if releases else 0, known.model.release_s,
    )  # fmt: skip
    return place, running


def _need_row(w: Waiting, kinds: dict[Any, Standing], paces: dict[str, float]) -> NeedRow:
    """What one build of a job needs of each kind of machine: hands may change spool and nozzle of the first tool; a
    part with several files, or a file for other tools, goes by what is on the machine now."""
    r = w.requirement
    plain = len(w.variants) == 1
    seconds: dict[Any, float] = {}
    said: list[Need] = []
    for kind, at in kinds.items():
        model = at.capability.model.name
        best = inf
        for kept, need in zip(w.variants, w.options(at), strict=True):
            reading = kept.readings.get(model)
            rules = KINDS if plain and need.tools in ((), (0,)) else LASTING
            if reading is None or blocker(need, at, rules) is not None:
                continue
            said.append(need)
            best = min(best, max(1.0, reading.planned_s * paces.get(model, 1.0)))
        if best < inf:
            seconds[kind] = best
    material, nozzle = r.material, r.nozzle_mm
    weight = max((n.grams for n in said), default=0.0)
    if plain and said:
        aside = said[0].overruled
        material = material or ("" if "other-material" in aside else said[0].said_material)
        nozzle = nozzle or (None if "other-nozzle" in aside else said[0].said_nozzle_mm)
    return NeedRow(seconds, material, r.colour, nozzle, r.hardened, round(weight, 1))


async def _upkeep(db: AsyncSession, at: datetime) -> dict[int, tuple[tuple[float, float], ...]]:
    rows = (await db.execute(select(t.UpkeepWindow).where(t.UpkeepWindow.end_at > at))).scalars()
    found: dict[int, list[tuple[float, float]]] = {}
    for row in rows:
        found.setdefault(row.machine_id, []).append((_until(row.begin_at, at), _until(row.end_at, at)))
    return {machine: tuple(sorted(spans)) for machine, spans in found.items()}


async def _spares(db: AsyncSession) -> tuple[Spool, ...]:
    rows = (await db.execute(select(t.Spool).where(t.Spool.machine_id.is_(None), ~t.Spool.finished))).scalars()
    return tuple(Spool(s.material, s.colour, s.grams_left) for s in rows if s.grams_left > 0)


async def learn(db: AsyncSession, settings: Settings, now: datetime) -> Past:
    """What the newest builds show: how they kept to the pace of their model, how long beds waited for hands that were
    there, and what was scrap."""
    rows = (
        await db.execute(
            select(t.Build, t.Machine.site, t.Model.name)
            .join(t.Machine, t.Machine.id == t.Build.machine_id)
            .join(t.Model, t.Model.id == t.Machine.model_id)
            .where(t.Build.cleared_at.is_not(None), t.Build.ended_at.is_not(None))
            .order_by(t.Build.id.desc())
            .limit(LEARN_FROM)
        )
    ).all()
    if not rows:
        return Past()
    oldest = min(b.claimed_at for b, _, _ in rows)
    ids = [b.id for b, _, _ in rows]
    spans: dict[int, dict[str, list[tuple[datetime, datetime]]]] = {}
    for l in (await db.execute(select(t.Ledger).where(t.Ledger.build_id.in_(ids)))).scalars():  # noqa: E741
        spans.setdefault(l.build_id or 0, {}).setdefault(l.state, []).append((l.begin_at, min(l.end_at, now)))
    ratios: dict[str, list[float]] = {}
    delays: list[float] = []
    staffing = {site: settings.staffing(oldest, now, site) for site in {s for _, s, _ in rows}}
    for b, site, model in rows:
        own = spans.get(b.id, {})
        worked = sum((y - x) / timedelta(seconds=1) for s in ("warming", "building") for x, y in own.get(s, []))
        if b.outcome == Outcome.COMPLETED and b.planned_s > 0 and worked > 0:
            ratios.setdefault(model, []).append(worked / b.planned_s)
        for x, _ in own.get("uncleared", [])[:1]:
            if not b.let_go and b.cleared_at is not None and b.cleared_at > x:
                delays.append(max(30.0, staffing[site].between(x, b.cleared_at) / timedelta(seconds=1)))
    paces = {model: _spread(values[:100]) for model, values in ratios.items()}
    judged = [b for b, _, _ in rows if b.verdict]
    scrap = sum(b.verdict == "scrap" for b in judged) / len(judged) if len(judged) >= 20 else 0.04
    return Past(paces, delays, scrap)


def _spread(ratios: list[float]) -> list[float]:
    """Ratios around their own middle: the plan's times hold the middle already."""
    middle = exp(sorted(map(log, ratios))[len(ratios) // 2])
    return [r / middle for r in ratios]
