"""How good the forecast would have been: the demo shop's past, stopped again and again, with only what was known then.

In the second week of the fortnight, at the start of every build its end is forecast, at its end when its bed will be
clear, and at each job's arrival when its last good copy will be lifted off. Printed is how often the truth fell between
the early and the late of the forecast (eight of ten would be right), and by how much the likely time was wrong, in the
middle.

    python -m bench.back_test
"""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.core.orders.requirement import Requirement
from chronarch.core.orders.states import Verdict
from chronarch.core.planning.eligibility import JobNeed
from chronarch.core.planning.forecast import RunningBuild, forecast
from chronarch.core.planning.planner import make_plan
from chronarch.core.planning.shifts import Staffing, weekdays
from chronarch.core.planning.shop_history import ShopHistory
from chronarch.core.planning.snapshot import (
    Costs,
    LoadedSpool,
    MachineSlot,
    NeedRow,
    SlotPhase,
    Snapshot,
    Strategy,
    WaitingWork,
)
from chronarch.core.time_range import TimeRange
from chronarch.demo.history import MadeUpPast, PastBuild, PastFile, make_past
from chronarch.demo.shop import MACHINES, MATERIAL, MODELS, PARTS, PAST, file_name
from chronarch.demo.slicer import slice_part

END = datetime(2026, 10, 19, 8, tzinfo=UTC)
BEGIN = END.replace(hour=0) - timedelta(days=14)
MIDDLE = BEGIN + timedelta(days=7)
HOURS = weekdays(8, 17)
STAFFING = Staffing(HOURS.spans(BEGIN - timedelta(days=3), END + timedelta(days=90)))
COOL_S = 420.0
MODEL_OF = {m.name: m.model for m in MACHINES}


@dataclass
class Tally:
    """Forecasts against the truth: hours off, whether it fell into the range, and how wide that was."""

    name: str
    off_h: list[float] = field(default_factory=list)
    inside: int = 0
    width_h: list[float] = field(default_factory=list)

    def add(self, said: TimeRange, truth: datetime) -> None:
        self.off_h.append(abs((truth - said.likely) / timedelta(hours=1)))
        self.inside += said.early <= truth <= said.late
        self.width_h.append((said.late - said.early) / timedelta(hours=1))

    def show(self) -> None:
        n = len(self.off_h)
        off, width = statistics.median(self.off_h) * 60, statistics.median(self.width_h) * 60
        print(f"  {self.name:34}{n:>7}{self.inside / n:>13.1%}{off:>15.1f} min{width:>13.1f} min")


def shops_past() -> MadeUpPast:
    files = []
    for part in PARTS:
        if part.name in PAST:
            material = MATERIAL.get(part.name, "PLA")
            text = "".join(f"{line}\n" for line in slice_part(part, material=material)).encode()
            planned = analyse(text, MODELS[0]).planned_s
            files.append(PastFile(file_name(part), planned, JobNeed(Requirement(material=material))))
    return make_past(files, BEGIN, END)


def known_by(builds: Sequence[PastBuild], worked: dict[int, float], at: datetime) -> ShopHistory:
    """What the builds that were over by then show, as the service learns it."""
    ratios: dict[str, list[float]] = {}
    delays: list[float] = []
    scrap = judged = 0
    for n, b in enumerate(builds):
        if b.cleared > at:
            continue
        judged += 1
        scrap += b.verdict is Verdict.SCRAP
        if b.outcome is Outcome.COMPLETED:
            ratios.setdefault(MODEL_OF[b.machine], []).append(worked[n] / b.file.planned_s)
        ready = b.ended + timedelta(seconds=COOL_S)
        delays.append(max(30.0, STAFFING.between(ready, b.cleared) / timedelta(seconds=1)))
    paces = {}
    for model, values in ratios.items():
        recent = values[-100:]
        middle = statistics.median(recent)
        paces[model] = [v / middle for v in recent]
    return ShopHistory(paces, delays[-400:], scrap / max(1, judged))


def pace_by(builds: Sequence[PastBuild], worked: dict[int, float], at: datetime) -> dict[str, float]:
    ratios: dict[str, list[float]] = {}
    for n, b in enumerate(builds):
        if b.cleared <= at and b.outcome is Outcome.COMPLETED:
            ratios.setdefault(MODEL_OF[b.machine], []).append(worked[n] / b.file.planned_s)
    return {model: statistics.median(values[-100:]) for model, values in ratios.items()}


def snapshot(past: MadeUpPast, pace: dict[str, float], at: datetime) -> tuple[Snapshot, list[RunningBuild]]:
    """The shop as it stood at a moment, by what was known then."""
    on: dict[str, PastBuild] = {b.machine: b for b in past.builds if b.claimed <= at < b.cleared}
    machines, running = [], []
    for m in MACHINES:
        b = on.get(m.name)
        phase, free = SlotPhase.CLEAR, 0.0
        if b is not None:
            left = b.file.planned_s * pace.get(m.model, 1.0) - (at - b.started) / timedelta(seconds=1)
            left = max(60.0, left) if b.ended > at else 0.0
            running.append(RunningBuild(m.name, b.job, left))
            cooling = max(0.0, COOL_S - (at - b.ended) / timedelta(seconds=1)) if b.ended <= at else left + COOL_S
            phase, free = SlotPhase.OCCUPIED, cooling
        machines.append(
            MachineSlot(m.name, m.model, phase, free, spool=LoadedSpool(m.material, m.colour), cool_s=COOL_S)
        )
    taken: dict[int, set[int]] = {}
    for b in past.builds:
        if b.claimed <= at and not (b.verdict is Verdict.SCRAP and b.cleared <= at):
            taken.setdefault(b.job, set()).add(b.copy)
    work = []
    for number, (file, copies, created) in enumerate(past.jobs, 1):
        waiting = copies - len(taken.get(number, ()))
        if created <= at and waiting > 0:
            seconds = {m.model: file.planned_s * pace.get(m.model, 1.0) for m in MACHINES}
            work.append(WaitingWork(number, waiting, NeedRow(seconds, file.need.requirement.material), number))
    spans = tuple(HOURS.spans(at, at + timedelta(days=60)))
    costs = Costs(clear_s=60, walk_s=480)
    return Snapshot(at, tuple(machines), tuple(work), {"": (spans, 3)}, (), costs, Strategy.FIRST_COME), running


def main() -> None:
    past = shops_past()
    worked: dict[int, float] = {}
    for entries in past.ledgers.values():
        for i in entries:
            if i.build is not None and i.state in (MachineState.WARMING, MachineState.BUILDING):
                worked[i.build] = worked.get(i.build, 0.0) + (i.end - i.begin) / timedelta(seconds=1)
    ends, clears, jobs = (
        Tally("end of a build, at its start"),
        Tally("bed clear, at its end"),
        Tally("job done, at its arrival"),
    )
    failed = 0
    for b in past.builds:
        if b.started < MIDDLE:
            continue
        if b.outcome is not Outcome.COMPLETED:
            failed += 1
            continue
        known, pace = known_by(past.builds, worked, b.started), pace_by(past.builds, worked, b.started)
        expected = b.file.planned_s * pace.get(MODEL_OF[b.machine], 1.0)
        spans = tuple(HOURS.spans(b.started, b.started + timedelta(days=7)))
        one = MachineSlot(b.machine, "any", SlotPhase.OCCUPIED, expected + COOL_S, cool_s=COOL_S)
        s = Snapshot(b.started, (one,), (), {"": (spans, 1)})
        ends.add(
            forecast(s, make_plan(s), [RunningBuild(b.machine, 1, expected)], known, MODEL_OF).ends[b.machine], b.ended
        )
        over = Snapshot(b.ended, (MachineSlot(b.machine, "any", SlotPhase.OCCUPIED, COOL_S),), (), {"": (spans, 1)})
        clears.add(forecast(over, make_plan(over), [], known, MODEL_OF).clears[b.machine], b.cleared)
    open_jobs = 0
    for number, (_, copies, created) in enumerate(past.jobs, 1):
        if created < MIDDLE:
            continue
        good = [b.cleared for b in past.builds if b.job == number and b.verdict is Verdict.GOOD]
        if len(good) < copies:
            open_jobs += 1
            continue
        known, pace = known_by(past.builds, worked, created), pace_by(past.builds, worked, created)
        s, running = snapshot(past, pace, created)
        said = forecast(s, make_plan(s), running, known, MODEL_OF).jobs.get(number)
        if said is not None and said.when is not None:
            jobs.add(said.when, max(good))
    print(f"The demo shop's second week: {len(past.builds)} builds in the fortnight, {len(past.jobs)} jobs\n")
    print(f"  {'':34}{'times':>7}{'in the range':>13}{'middle error':>19}{'middle width':>17}")
    for tally in (ends, clears, jobs):
        tally.show()
    print(
        f"\n  left out: {failed} builds that failed or were stopped, {open_jobs} jobs not done by the fortnight's end"
    )


if __name__ == "__main__":
    main()
