"""What the records say, put into a snapshot that can be planned."""

from __future__ import annotations

from collections.abc import Collection, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from functools import cached_property
from math import inf, log
from typing import Any, NamedTuple

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.learning import ModelPace
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.planning.eligibility import RULES_FOR_KIND, RULES_FOR_SETUP, JobNeed, MachineStatus, blocker
from chronarch.core.planning.fits import Fits, fits_of
from chronarch.core.planning.forecast import Forecast, RunningBuild, forecast
from chronarch.core.planning.shifts import Span
from chronarch.core.planning.shop_history import ShopHistory
from chronarch.core.planning.snapshot import (
    Assignment,
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
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.orders.waiting_jobs import BuildNeeds, WaitingJob
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
    machines: dict[str, MachineStatus]
    """By name: how the machines were."""
    dues: dict[int, datetime]
    settings: PlanningSettings
    past: ShopHistory

    def work_out(self) -> None:
        """Make here what everybody who looks at the plan needs of it."""
        for made in (self.up, self.forecast, self.fits, self.first_of):
            assert made is not None

    @property
    def size(self) -> int:
        """How many waiting jobs and machines it is about: making it takes about as long as there are many."""
        return len(self.snapshot.work) + len(self.snapshot.machines)

    @cached_property
    def up(self) -> frozenset[tuple[str, bool, bool]]:
        return up_of(self.snapshot)

    @cached_property
    def forecast(self) -> Forecast:
        return forecast(self.snapshot, self.plan, self.running, self.past, self.models, dues=self.dues)

    @cached_property
    def fits(self) -> Fits:
        return fits_of(self.snapshot)

    @cached_property
    def first_of(self) -> dict[int, Assignment]:
        """The first planned build of each job."""
        return {a.job: a for a in reversed(self.plan.assignments)}

    def forecast_of(self, snapshot: Snapshot, plan: QueuePlan) -> Forecast:
        """The forecast of another plan. Machines that the shop does not have count as the ones that they are named
        after."""
        models = {m.name: self.models.get(m.name) or self.models[m.name.split(" + ")[0]] for m in snapshot.machines}
        dues = {w.job: snapshot.at + timedelta(seconds=w.due_s) for w in snapshot.work if w.due_s < inf}
        return forecast(snapshot, plan, self.running, self.past, models, dues={**self.dues, **dues})


def _until(when: datetime | None, at: datetime) -> float:
    return inf if when is None else (when - at) / timedelta(seconds=1)


class MachineKind(NamedTuple):
    """What makes machines interchangeable for planning. `loaded` counts if a part has several files, because what is on
    a machine says which of them it is made from; `name` for machines that a job asks for, or with several tools."""

    model: str
    pools: tuple[str, ...]
    tags: tuple[str, ...]
    loaded: tuple[Any, ...]
    name: str


def _kind(known: FleetMachine, at: MachineStatus, pinned: Collection[str], multi: bool) -> MachineKind:
    row, tools = known.row, at.capability.tools
    loaded = tuple((tool.nozzle_mm, tool.hardened, tool.material.lower(), tool.colour.lower()) for tool in tools)
    name = row.name if row.name in pinned or len(tools) > 1 else ""
    pools, tags = tuple(sorted(row.pools)), tuple(sorted(row.tags))
    return MachineKind(known.model.name, pools, tags, loaded if multi else (), name)


def cool_s(known: FleetMachine) -> float:
    """How long a bed of 60 °C takes until it may be touched, by Newton's law of cooling."""
    release = max(known.model.release_c, AMBIENT_C + 2)
    if release >= USUAL_BED_C:
        return 0.0
    return known.model.bed_heat.cooling_s * log((USUAL_BED_C - AMBIENT_C) / (release - AMBIENT_C))


def _left_to_cool_s(known: FleetMachine, at: datetime) -> float:
    reading = known.sample.reading if known.sample else None
    bed = reading.bed.measured_c if reading else None
    if bed is None:
        return max(0.0, cool_s(known) - (at - known.row.since) / timedelta(seconds=1))
    release = max(known.model.release_c, AMBIENT_C + 2)
    return known.model.bed_heat.cooling_s * log((bed - AMBIENT_C) / (release - AMBIENT_C)) if bed > release else 0.0


def _workplace(
    known: FleetMachine, at: MachineStatus, kind: int, now: datetime, paces: dict[str, float]
) -> tuple[MachineSlot, RunningBuild | None]:
    row, brief = known.row, known.brief
    live = known.sample.build if known.sample else None
    running = None
    phase, free, idle = SlotPhase.CLEAR, 0.0, 0.0
    cool = cool_s(known)
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
        free, idle = at.start_up_s, max(0.0, (now - row.since) / timedelta(seconds=1))
    if running is None and brief is not None and phase is SlotPhase.OCCUPIED:
        running = RunningBuild(row.name, brief.job, 0.0)
    tool = at.capability.tools[0]
    spool = LoadedSpool(tool.material, tool.colour, inf if tool.grams is None else tool.grams)
    releases = known.model.releases
    place = MachineSlot(
        row.name, kind, phase, free, idle, row.site, spool, Nozzle(tool.nozzle_mm, tool.hardened),
        at.intake is Intake.MANUAL, at.intake is not Intake.CLOSED and not at.upkeep, cool, releases,
        min(releases, row.releases_left) if releases else 0, known.model.release_s,
    )  # fmt: skip
    return place, running


def up_of(shop: Snapshot) -> frozenset[tuple[str, bool, bool]]:
    """Which machines there are, whether each takes work, and whether it is away."""
    return frozenset((m.name, m.takes, m.phase is SlotPhase.AWAY) for m in shop.machines)


@dataclass
class KnownNeeds:
    """What is known of some needs from the plan before: what they ask of each kind of machine, and the row of a plan
    that was made `as_of` the same kinds and paces. They hold their contents' facts, so that nothing else gets the
    identity of those."""

    needs: BuildNeeds
    by_kind: dict[Hashable, _OfKind] = field(default_factory=dict)
    plain: bool = False
    """Whether what is loaded on machines does not matter, so that the row holds until kinds or paces change."""
    as_of: Hashable = None
    row: NeedRow | None = None


class NeedRows:
    """Makes what builds need of each kind of machine, and keeps it for the next plan: most of what waits has waited
    before."""

    def __init__(self) -> None:
        self._numbers: dict[MachineKind, int] = {}
        self._known: dict[tuple[Any, ...], KnownNeeds] = {}
        self._models: Hashable = None

    def number(self, kind: MachineKind) -> int:
        """A number that stands for a kind of machines: a plan asks for it very often."""
        return self._numbers.setdefault(kind, len(self._numbers))

    def rows(
        self,
        wanted: Iterable[BuildNeeds],
        kinds: Mapping[MachineKind, MachineStatus],
        paces: Mapping[str, float],
        models: Hashable,
    ) -> dict[int, NeedRow]:
        """The row of each of the needs, by identity. What others needed is forgotten, and everything if the `models`
        are not the same."""
        before = self._known if models == self._models else {}
        as_of = (frozenset(kinds), tuple(sorted(paces.items())))
        self._known, self._models = {}, models
        found = {}
        for needs in wanted:
            facts = tuple(id(one) for variant in needs.variants for one in variant.facts.values())
            key = (needs.requirement, needs.variants, facts, needs.models, needs.unreadable)
            known = self._known[key] = self._known.get(key) or before.get(key) or KnownNeeds(needs)
            if known.row is None or known.as_of != as_of or not known.plain:
                known.row, known.as_of = self._row(known, kinds, paces), as_of
            found[id(needs)] = known.row
        return found

    def _row(
        self, known: KnownNeeds, kinds: Mapping[MachineKind, MachineStatus], paces: Mapping[str, float]
    ) -> NeedRow:
        needs, of_kinds = known.needs, {}
        used: dict[Hashable, _OfKind] = {}
        known.plain = True
        for kind, at in kinds.items():
            plain = len(needs.variants) == 1 and all(need.tools in ONE_TOOL for need in needs.options(at))
            known.plain = known.plain and plain
            place: Hashable = self.number(kind._replace(loaded=())) if plain else (kind, at.capability.tools)
            used[place] = used.get(place) or known.by_kind.get(place) or _of_kind(needs, at)
            of_kinds[self.number(kind)] = used[place], paces.get(kind.model, 1.0)
        known.by_kind = used
        return _need_row(needs, of_kinds)


ONE_TOOL = ((), (0,))


class _OfKind(NamedTuple):
    """The planned time of a build on a kind of machine (inf: it cannot be made there), and what it asks and weighs."""

    planned_s: float
    said: tuple[JobNeed, ...]
    grams: float


def _of_kind(needs: BuildNeeds, at: MachineStatus) -> _OfKind:
    """The plan may have spool and nozzle of the first tool changed. A part with several files, or a file for other
    tools, is judged by what is on the machine now."""
    model, said, weight, best = at.capability.model.name, [], 0.0, inf
    for variant, need in zip(needs.variants, needs.options(at), strict=True):
        facts = variant.facts.get(model)
        rules = RULES_FOR_KIND if len(needs.variants) == 1 and need.tools in ONE_TOOL else RULES_FOR_SETUP
        if facts is None or blocker(need, at, rules) is not None:
            continue
        said.append(need)
        weight = max(weight, need.grams.get(at.capability.tools[0].number, 0.0))
        best = min(best, facts.planned_s)
    return _OfKind(best, tuple(said), weight)


def _need_row(needs: BuildNeeds, kinds: Mapping[int, tuple[_OfKind, float]]) -> NeedRow:
    """From what is known of each kind of machine, and its pace."""
    r = needs.requirement
    said = next((one.said[0] for one, _ in kinds.values() if one.said), None)
    material, nozzle = r.material, r.nozzle_mm
    if len(needs.variants) == 1 and said is not None:
        material = material or ("" if "other-material" in said.overruled else said.said_material)
        nozzle = nozzle or (None if "other-nozzle" in said.overruled else said.said_nozzle_mm)
    seconds: dict[Hashable, float] = {
        kind: max(1.0, one.planned_s * pace) for kind, (one, pace) in kinds.items() if one.planned_s < inf
    }
    weight = max((one.grams for one, _ in kinds.values()), default=0.0)
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


@dataclass(frozen=True)
class ShopNow:
    """The machines at a moment, taken while nothing changes."""

    at: datetime
    machines: tuple[FleetMachine, ...]
    standings: dict[str, MachineStatus]
    models_as_of: Hashable

    @classmethod
    def of(cls, at: datetime, fleet: Fleet, models_as_of: Hashable) -> ShopNow:
        machines = tuple(replace(known) for known in fleet.all())
        return cls(at, machines, {known.row.name: fleet.standing(known) for known in machines}, models_as_of)


async def take_snapshot(
    db: AsyncSession, now: ShopNow, rows: NeedRows, learned: dict[str, ModelPace], settings: PlanningSettings,
    waiting: Sequence[WaitingJob], past: ShopHistory,
) -> CurrentPlan:  # fmt: skip
    """The shop as it is at a time, with an empty plan."""
    at, standings = now.at, now.standings
    paces = {name: p.pace for name, p in learned.items()}
    windows = await _upkeep(db, at)
    pinned = {w.needs.requirement.machine for w in waiting}
    multi = any(len(w.needs.variants) > 1 for w in waiting)
    machines, running = [], []
    by_kind: dict[MachineKind, MachineStatus] = {}
    for known in now.machines:
        here = standings[known.row.name]
        kind = _kind(known, here, pinned, multi)
        by_kind.setdefault(kind, here)
        place, run = _workplace(known, here, rows.number(kind), at, paces)
        machines.append(replace(place, upkeep=windows.get(known.row.id, ())))
        if run is not None:
            running.append(run)
    row_of = rows.rows({id(w.needs): w.needs for w in waiting}.values(), by_kind, paces, now.models_as_of)
    work = [
        WaitingWork(
            w.job.id, w.copies.builds(w.needs.pieces), row_of[id(w.needs)], w.job.line, w.job.top, w.job.priority,
            _until(w.job.due_at, at),
            0.0 if w.job.not_before is None else max(0.0, _until(w.job.not_before, at)),
        )
        for w in waiting
    ]  # fmt: skip
    being_made = select(t.Job.id, t.Job.due_at).where(t.Job.id.in_({r.job for r in running}), t.Job.due_at.is_not(None))
    dues = {job: due for job, due in await db.execute(being_made) if due is not None}
    dues |= {w.job.id: w.job.due_at for w in waiting if w.job.due_at is not None}
    spans = {site: _spans(settings, site, at) for site in {"", *(m.site for m in machines)}}
    spares = await _spares(db)
    costs = settings.planning.costs()
    snapshot = Snapshot(at, tuple(machines), tuple(work), spans, spares, costs, settings.planning.strategy)
    models = {known.row.name: known.model.name for known in now.machines}
    empty = QueuePlan(at, snapshot.strategy, ())
    by_number = {w.job.id: w for w in waiting}
    return CurrentPlan(snapshot, empty, running, models, by_number, standings, dues, settings, past)


def _spans(settings: PlanningSettings, site: str, at: datetime) -> tuple[tuple[Span, ...], int]:
    hours = settings.core(site)
    return tuple(hours.spans(at, at + LOOK_AHEAD)), hours.people
