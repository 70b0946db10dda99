"""What the records say, put into a snapshot that can be planned."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from math import inf, log
from typing import Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.learning import ModelPace
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.planning.eligibility import RULES_FOR_KIND, RULES_FOR_SETUP, JobNeed, MachineStatus, blocker
from chronarch.core.planning.forecast import Forecast, RunningBuild, forecast
from chronarch.core.planning.shifts import Span
from chronarch.core.planning.shop_history import ShopHistory
from chronarch.core.planning.snapshot import (
    LoadedSpool,
    MachineSlot,
    NeedRow,
    Nozzle,
    QueuePlan,
    SlotPhase,
    Snapshot,
    WaitingWork,
)
from chronarch.records import tables as t
from chronarch.records.orders.jobs import copies_of
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.orders.waiting_jobs import WaitingJob
from chronarch.service.planning.settings import PlanningSettings

LOOK_AHEAD = timedelta(days=60)
AMBIENT_C, USUAL_BED_C = 22.0, 60.0
PAUSED_S = 900.0
"""How long a paused build is expected to stay paused."""
LONGEST_LEFT_S = 3.2e8
"""Ten years. No file lasts longer, whatever a tender says is left of it."""


@dataclass
class CurrentPlan:
    """A plan with what it was made from."""

    snapshot: Snapshot
    plan: QueuePlan
    running: list[RunningBuild]
    models: dict[str, str]
    waiting: dict[int, WaitingJob]
    dues: dict[int, datetime]
    settings: PlanningSettings
    past: ShopHistory
    _forecast: Forecast | None = None

    def forecast(self) -> Forecast:
        if self._forecast is None:
            self._forecast = forecast(
                self.snapshot, self.plan, self.running, self.past, self.models, dues=self.dues
            )  # fmt: skip
        return self._forecast

    def forecast_of(self, snapshot: Snapshot, plan: QueuePlan) -> Forecast:
        """The forecast of another plan. Machines that the shop does not have count as the ones that they are named
        after."""
        models = {m.name: self.models.get(m.name) or self.models[m.name.split(" + ")[0]] for m in snapshot.machines}
        dues = {w.job: snapshot.at + timedelta(seconds=w.due_s) for w in snapshot.work if w.due_s < inf}
        return forecast(snapshot, plan, self.running, self.past, models, dues={**self.dues, **dues})


def _until(when: datetime | None, at: datetime) -> float:
    return inf if when is None else (when - at) / timedelta(seconds=1)


def _kind(known: FleetMachine, at: MachineStatus, pinned: Iterable[str], multi: bool) -> tuple[Any, ...]:
    """What makes machines interchangeable for planning: their kind, not what is loaded; but also the nozzle if a part
    has files for several nozzles."""
    row = known.row
    nozzle = [(tool.nozzle_mm, tool.hardened) for tool in at.capability.tools] if multi else []
    name = row.name if row.name in pinned or len(at.capability.tools) > 1 else ""
    return (known.model.name, tuple(sorted(row.pools)), tuple(sorted(row.tags)), tuple(nozzle), name)


def _cool_s(known: FleetMachine) -> float:
    """How long a bed of 60 °C takes until it may be touched, by Newton's law of cooling."""
    release = max(known.model.release_c, AMBIENT_C + 2)
    if release >= USUAL_BED_C:
        return 0.0
    return known.model.bed_heat.cooling_s * log((USUAL_BED_C - AMBIENT_C) / (release - AMBIENT_C))


def _left_to_cool_s(known: FleetMachine, at: datetime) -> float:
    reading = known.sample.reading if known.sample else None
    bed = reading.bed.measured_c if reading else None
    if bed is None:
        return max(0.0, _cool_s(known) - (at - known.row.since) / timedelta(seconds=1))
    release = max(known.model.release_c, AMBIENT_C + 2)
    return known.model.bed_heat.cooling_s * log((bed - AMBIENT_C) / (release - AMBIENT_C)) if bed > release else 0.0


def _workplace(
    known: FleetMachine, at: MachineStatus, kind: tuple[Any, ...], now: datetime, paces: dict[str, float]
) -> tuple[MachineSlot, RunningBuild | None]:
    row, brief = known.row, known.brief
    live = known.sample.build if known.sample else None
    running = None
    phase, free, idle = SlotPhase.CLEAR, 0.0, 0.0
    cool = _cool_s(known)
    state = at.state
    if state in (MachineState.DOWN, MachineState.SERVICE, MachineState.OFFLINE) or not at.reachable:
        phase = SlotPhase.AWAY
    elif state is MachineState.COOLING:
        phase, free = SlotPhase.OCCUPIED, _left_to_cool_s(known, now)
    elif state is MachineState.UNCLEARED:
        phase = SlotPhase.OCCUPIED
    elif brief is not None and brief.outcome is None:
        left = live.remaining_s if live is not None and live.id == brief.id else None
        if left is None:
            begun = brief.started_at or now
            planned = known.planned_s * paces.get(known.model.name, 1.0)
            left = max(60.0, planned - (now - begun) / timedelta(seconds=1))
        left = min(max(left, 0.0), LONGEST_LEFT_S)
        left += PAUSED_S if state is MachineState.PAUSED else 0.0
        phase, free = SlotPhase.OCCUPIED, left + cool
        running = RunningBuild(row.name, brief.job, left)
    else:
        idle = max(0.0, (now - row.since) / timedelta(seconds=1))
    if running is None and brief is not None and phase is SlotPhase.OCCUPIED:
        running = RunningBuild(row.name, brief.job, 0.0)
    tool = at.capability.tools[0]
    spool = LoadedSpool(tool.material, tool.colour, inf if tool.grams is None else tool.grams)
    releases = known.model.releases
    place = MachineSlot(
        row.name, kind, phase, free, idle, row.site, spool, Nozzle(tool.nozzle_mm, tool.hardened),
        at.intake is Intake.MANUAL, at.intake is not Intake.CLOSED, cool, releases,
        min(releases, row.releases_left) if releases else 0, known.model.release_s,
    )  # fmt: skip
    return place, running


def _need_row(w: WaitingJob, kinds: dict[Any, MachineStatus], paces: dict[str, float]) -> NeedRow:
    """What one build of a job needs of each kind of machine. The plan may have spool and nozzle of the first tool
    changed. A part with several files, or a file for other tools, is judged by what is on the machine now."""
    r = w.requirement
    plain = len(w.variants) == 1
    seconds: dict[Any, float] = {}
    said: list[JobNeed] = []
    weight = 0.0
    for kind, at in kinds.items():
        model = at.capability.model.name
        best = inf
        for kept, need in zip(w.variants, w.options(at), strict=True):
            reading = kept.readings.get(model)
            rules = RULES_FOR_KIND if plain and need.tools in ((), (0,)) else RULES_FOR_SETUP
            if reading is None or blocker(need, at, rules) is not None:
                continue
            said.append(need)
            weight = max(weight, need.grams.get(at.capability.tools[0].number, 0.0))
            best = min(best, max(1.0, reading.planned_s * paces.get(model, 1.0)))
        if best < inf:
            seconds[kind] = best
    material, nozzle = r.material, r.nozzle_mm
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


async def _spares(db: AsyncSession) -> tuple[LoadedSpool, ...]:
    rows = (await db.execute(select(t.Spool).where(t.Spool.machine_id.is_(None), ~t.Spool.finished))).scalars()
    return tuple(LoadedSpool(s.material, s.colour, s.grams_left) for s in rows if s.grams_left > 0)


async def take_snapshot(
    db: AsyncSession, at: datetime, fleet: Fleet, learned: dict[str, ModelPace], settings: PlanningSettings,
    waiting: Sequence[WaitingJob], past: ShopHistory,
) -> CurrentPlan:  # fmt: skip
    """The shop as it is at a time, with an empty plan."""
    machines_known = fleet.all()
    paces = {name: p.pace for name, p in learned.items()}
    windows = await _upkeep(db, at)
    pinned = {w.requirement.machine for w in waiting}
    multi = any(len(w.variants) > 1 for w in waiting)
    standings = {k.row.name: fleet.standing(k) for k in machines_known}
    kinds = {k.row.name: _kind(k, standings[k.row.name], pinned, multi) for k in machines_known}
    machines, running = [], []
    for known in machines_known:
        place, run = _workplace(known, standings[known.row.name], kinds[known.row.name], at, paces)
        machines.append(replace(place, upkeep=windows.get(known.row.id, ())))
        if run is not None:
            running.append(run)
    by_kind: dict[Any, MachineStatus] = {}
    for name, kind in kinds.items():
        by_kind.setdefault(kind, standings[name])
    copies = await copies_of(db, [w.job for w in waiting])
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
            WaitingWork(
                w.job.id, copies[w.job.id].builds(pieces), row, w.job.line, w.job.top, w.job.priority,
                _until(due, at), 0.0 if w.job.not_before is None else max(0.0, _until(w.job.not_before, at)),
            )
        )  # fmt: skip
    for r in running:
        job = await db.get(t.Job, r.job)
        if job is not None and job.due_at is not None:
            dues[r.job] = job.due_at
    spans = {site: _spans(settings, site, at) for site in {"", *(m.site for m in machines)}}
    spares = await _spares(db)
    costs = settings.planning.costs()
    snapshot = Snapshot(at, tuple(machines), tuple(work), spans, spares, costs, settings.planning.strategy)
    models = {k.row.name: k.model.name for k in machines_known}
    empty = QueuePlan(at, snapshot.strategy, ())
    return CurrentPlan(snapshot, empty, running, models, {w.job.id: w for w in waiting}, dues, settings, past)


def _spans(settings: PlanningSettings, site: str, at: datetime) -> tuple[tuple[Span, ...], int]:
    hours = settings.core(site)
    return tuple(hours.spans(at, at + LOOK_AHEAD)), hours.people
