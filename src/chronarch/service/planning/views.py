"""The plan as the wire shows it."""

from __future__ import annotations

from datetime import timedelta

from chronarch.core.machines.states import MachineState
from chronarch.core.planning.choices import put_on, why_words
from chronarch.core.planning.explanations import why_idle
from chronarch.core.planning.forecast import Forecast
from chronarch.core.planning.snapshot import MEANING, QueuePlan, Snapshot
from chronarch.core.planning.together import conflicts
from chronarch.service.machines.fleet import Fleet
from chronarch.service.planning.snapshot import CurrentPlan
from chronarch.wire.common import fill
from chronarch.wire.planning import plan as wp
from chronarch.wire.planning.plan import MachineOutlook, PlannedBuild
from chronarch.wire.planning.settings import StaffedSpan

SHOWN = 400
"""How many builds of a plan are sent."""


def staffed_wire(snapshot: Snapshot, until: timedelta) -> list[StaffedSpan]:
    """The hours of each site, from now for a while."""
    end = snapshot.at + until
    return [
        StaffedSpan(site=site, begin=a, end=min(b, end))
        for site, (spans, _) in sorted(snapshot.hands.items())
        for a, b in spans
        if a < end
    ]


def foreseen(fleet: Fleet, planned: CurrentPlan, plan: QueuePlan, f: Forecast, most: int = SHOWN) -> list[PlannedBuild]:
    """What a plan has each machine do, with why."""
    found = []
    for b in f.builds[:most]:
        a = b.assignment
        load, nozzle = put_on(a)
        due = planned.dues.get(a.job)
        due_words = f"due {due.astimezone(fleet.zone):%a %H:%M}" if due else "nothing is due"
        waiting = planned.waiting.get(a.job)
        found.append(
            fill(
                PlannedBuild, a, b, what=waiting.name if waiting else f"job {a.job}",
                hands=None if a.hands_s is None else plan.time(a.hands_s), load=load, nozzle=nozzle,
                why=why_words(a, plan.strategy, lambda s: plan.time(s).astimezone(fleet.zone), due_words),
            )
        )  # fmt: skip
    return found


def plan_wire(fleet: Fleet, planned: CurrentPlan) -> wp.PlanWithForecast:
    """The plan with its forecast, and why machines stand idle."""
    f = planned.forecast
    plan = planned.plan
    starting = {a.machine for a in plan.assignments if a.start_s <= 1.0}
    first_with = {id(x.needs): x for x in reversed(planned.waiting.values())}
    in_line = sorted(first_with.values(), key=lambda x: x.job.line)  # only the first of those that need the same
    waiting = [(f"job {x.job.id} ({x.name})", x.needs.options) for x in in_line]
    machines = []
    for known in fleet.all():
        name = known.row.name
        at = planned.machines.get(name)
        idle = ""
        if at is not None and at.state is MachineState.IDLE and not at.busy and name not in starting:
            first = plan.next_on(name)
            if first is not None and first.hands_s is not None:
                wanted = " and ".join(filter(None, put_on(first))) or "somebody to start it"
                idle = f"It waits for {wanted}: job {first.job} comes next."
            else:
                idle = why_idle(at, waiting)
        machines.append(
            MachineOutlook(
                machine=name, end=f.ends.get(name), cleared=f.clears.get(name), idle=idle
            )
        )  # fmt: skip
    return wp.PlanWithForecast(
        at=plan.at, strategy=plan.strategy, meaning=MEANING[plan.strategy],
        builds=foreseen(fleet, planned, plan, f), machines=machines,
        staffed=staffed_wire(planned.snapshot, timedelta(days=7)),
        conflicts=conflicts(planned.snapshot, f, lambda at: fleet.words(at, f.at)), unplaced=dict(plan.unplaced),
    )  # fmt: skip
