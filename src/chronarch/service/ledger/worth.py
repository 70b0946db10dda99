"""Gathers a recorded time, and has the planner make of it what it would have been."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger import worth as core
from chronarch.core.ledger.turnaround import microseconds
from chronarch.core.planning.snapshot import MachineSlot, Nozzle, Snapshot
from chronarch.records.ledger.demand import RecordedBuild, count_builds, recorded_builds
from chronarch.records.ledger.figures import changes
from chronarch.service.machines.fleet import FleetMachine
from chronarch.service.planning.settings import PlanningSettings, load_settings
from chronarch.service.planning.snapshot import cool_s
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import fill
from chronarch.wire.ledger import worth as w

MOST_BUILDS = 20_000
FEWEST_JUDGED = 10
LITTLE_H = 0.25
"""What lets builds begin by less than this earlier is not worth much."""


async def is_it_worth(db: AsyncSession, machines: Sequence[FleetMachine], begin: datetime, end: datetime) -> w.Worth:
    """What the work of begin..end waited for, and what would have helped. Raises ApiProblem (422)."""
    if (many := await count_builds(db, begin, end)) > MOST_BUILDS:
        raise ApiProblem(422, f"{many:,} builds began in that time; ask for a shorter one, of at most {MOST_BUILDS:,}.")
    builds = await recorded_builds(db, begin, end)
    settings = await load_settings(db)
    models = {known.row.id: known.model.name for known in machines}
    of_job = _seconds(builds, models)
    ready = _ready(builds)
    ledgers = defaultdict(list)
    for number, one in (await changes(db, list(models), begin, end)).items():
        ledgers[models[number]].append(one)
    waited = [(b, max(ready[b.number], begin)) for b in builds if ready[b.number] < b.started]
    waits = [
        core.RecordedWait(microseconds(since), microseconds(b.started), _models(b, of_job, models))
        for b, since in waited
    ]
    shop = _as_it_was(builds, of_job, machines, settings, begin, end)
    planned = core.outcome(shop, end)
    thens = _changes(shop, builds, machines)
    scenarios = [_scenario(name, text, core.outcome(then, end), planned) for name, text, then in thens]
    scenarios.sort(key=lambda one: (-one.builds_more, -one.wait_less_h))
    for_what = core.waited_for(waits, ledgers, begin, end)
    return w.Worth(
        begin=begin, end=end, jobs=len(of_job), builds=len(builds), machines_h=for_what.machines_h,
        hands_h=for_what.hands_h, other_h=for_what.other_h, recorded=_recorded(builds, ready, end),
        planned=fill(w.MonthOutcome, planned), scenarios=scenarios, answer=_answer(for_what, scenarios),
    )  # fmt: skip


def _seconds(builds: Sequence[RecordedBuild], models: Mapping[int, str]) -> dict[int, dict[str, float]]:
    """By job: how long a build takes on each model that made the same files, s."""
    took: dict[tuple[int, str], list[float]] = defaultdict(list)
    files: dict[int, set[int]] = defaultdict(set)
    for b in builds:
        if b.completed and b.took_s and b.machine in models:
            took[b.file, models[b.machine]].append(float(b.took_s))
        files[b.job].add(b.file)
    found: dict[int, dict[str, float]] = {}
    for job, several in files.items():
        by_model: dict[str, float] = {}
        for (file, model), seconds in took.items():
            if file in several:
                by_model[model] = min(by_model.get(model, 1e12), sum(seconds) / len(seconds))
        found[job] = by_model
    return found


def _models(b: RecordedBuild, of_job: Mapping[int, Mapping[str, float]], models: Mapping[int, str]) -> frozenset[str]:
    """The models that could have made it."""
    return frozenset(of_job[b.job]) | ({models[b.machine]} if b.machine in models else set())


def _ready(builds: Sequence[RecordedBuild]) -> dict[int, datetime]:
    """When each build could have begun, by its number."""
    found: dict[int, datetime] = {}
    free: dict[tuple[int, int], datetime] = {}
    for b in builds:
        found[b.number] = free.get((b.job, b.copy), b.released)
        if b.cleared is not None:
            free[b.job, b.copy] = b.cleared
    return found


def _as_it_was(
    builds: Sequence[RecordedBuild], of_job: Mapping[int, Mapping[str, float]], machines: Sequence[FleetMachine],
    settings: PlanningSettings, begin: datetime, end: datetime,
) -> Snapshot:  # fmt: skip
    several: dict[int, list[RecordedBuild]] = defaultdict(list)
    for b in builds:
        several[b.job].append(b)
    jobs = [
        core.RecordedJob(job, len(some), of_job[job], some[0].released, some[0].due, some[0].priority)
        for job, some in several.items()
    ]
    slots = [
        MachineSlot(
            m.row.name, m.model.name, site=m.row.site, nozzle=Nozzle(0.4), cool_s=cool_s(m), releases=m.model.releases,
            releases_left=m.model.releases, release_s=m.model.release_s,
        )
        for m in machines
    ]  # fmt: skip
    sites = {"", *(m.row.site for m in machines)}
    hands = {site: (tuple(settings.core(site).spans(begin, end)), settings.core(site).people) for site in sites}
    return core.month(begin, slots, jobs, hands, settings.planning.costs(), settings.planning.strategy)


def _changes(
    shop: Snapshot, builds: Sequence[RecordedBuild], machines: Sequence[FleetMachine]
) -> list[tuple[str, str, Snapshot]]:
    """One more machine of each model, an hour more of hands, one less of the machine that made the most scrap."""
    found = [("hands", "somebody there an hour longer each day", core.more_hands(shop))]
    like: dict[str, str] = {}
    for known in machines:
        like.setdefault(known.model.name, known.row.name)
    for model, name in like.items():
        found.append((f"more {model}", f"one more {model}", core.one_more(shop, name)))
    worst = _worst(builds, {known.row.id: known.row.name for known in machines})
    if worst:
        found.append((f"less {worst}", f"without {worst}, which made the most scrap", core.one_less(shop, worst)))
    return found


def _worst(builds: Sequence[RecordedBuild], names: Mapping[int, str]) -> str:
    """The machine with the largest share of builds that were no use."""
    seen: dict[int, list[bool]] = defaultdict(list)
    for b in builds:
        seen[b.machine].append(b.scrap)
    shares = {names[m]: sum(some) / len(some) for m, some in seen.items() if len(some) >= FEWEST_JUDGED and m in names}
    return max(shares, key=lambda name: shares[name], default="")


def _recorded(builds: Sequence[RecordedBuild], ready: Mapping[int, datetime], end: datetime) -> w.MonthOutcome:
    waits = [(b.started - ready[b.number]).total_seconds() for b in builds]
    beds = sum((b.cleared - b.ended).total_seconds() for b in builds if b.cleared and b.ended)
    last: dict[int, RecordedBuild] = {}
    for b in builds:
        last[b.job] = b
    due = [b for b in last.values() if b.due is not None and b.due <= end]
    in_time = sum(b.ended is not None and b.due is not None and b.ended <= b.due for b in due)
    return w.MonthOutcome(
        builds=sum(b.ended is not None and b.ended < end for b in builds),
        wait_h=sum(waits) / len(waits) / 3600 if waits else 0.0, due=len(due), in_time=in_time, beds_h=beds / 3600,
    )  # fmt: skip


def _scenario(name: str, text: str, then: core.MonthOutcome, planned: core.MonthOutcome) -> w.WorthScenario:
    return w.WorthScenario(
        name=name, text=text, outcome=fill(w.MonthOutcome, then), builds_more=then.builds - planned.builds,
        wait_less_h=planned.wait_h - then.wait_h,
    )  # fmt: skip


def _answer(waited: core.WaitedFor, scenarios: Sequence[w.WorthScenario]) -> str:
    """In words: what work waited for most, and what would have helped most."""
    hours = {"machines": waited.machines_h, "hands": waited.hands_h, "something else": waited.other_h}
    whole = sum(hours.values())
    if not whole:
        return "Nothing waited in that time."
    most = max(hours, key=lambda name: hours[name])
    said = f"Work waited {whole:,.0f} h in all, {hours[most] / whole:.0%} of it for {most}."
    best = next((one for one in scenarios if one.builds_more > 0 or one.wait_less_h > 0.01), None)
    if best is None:
        return f"{said} Neither a machine more nor an hour more of hands would have made a difference."
    earlier = f"{round(60 * best.wait_less_h)} min earlier on average"
    if best.builds_more == 0 and best.wait_less_h < LITTLE_H:
        return f"{said} Nothing would have helped much: with {best.text} a build begins {earlier}."
    more = f"{best.builds_more} builds more, " if best.builds_more else ""
    return f"{said} What would have helped most is {best.text}: {more}a build begins {earlier}."
