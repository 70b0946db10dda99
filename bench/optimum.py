"""The best schedule there is for a small shop: OR-tools CP-SAT over the planner's own rules of the world (beds,
hands one bed at a time, staffed hours), so that a strategy can be held against it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from ortools.sat.python import cp_model

from chronarch.core.planning.snapshot import Snapshot

WITHIN_S = 60.0


@dataclass
class Best:
    """When the last bed is clear, minutes; whether that is proven to be the least."""

    done_min: float
    proven: bool


def optimum(shop: Snapshot, horizon: timedelta = timedelta(days=9)) -> Best:
    """The least time until all that waits is built and lifted off. For machines of one kind that are clear at first,
    nothing to be loaded, one pair of hands."""
    model = cp_model.CpModel()
    last = int(horizon / timedelta(minutes=1))
    costs = shop.costs
    walk, clear = round(costs.walk_s / 60), round(costs.clear_s / 60)
    (spans, _) = shop.hands[""]
    windows = [[max(0, _minute(a, shop.at)), _minute(b, shop.at) - 1] for a, b in spans if b > shop.at]
    staffed = cp_model.Domain.from_intervals([w for w in windows if w[0] < last])
    lengths = [round(next(iter(w.need.duration_s.values())) / 60) for w in shop.work for _ in range(w.builds)]
    cool = round(shop.machines[0].cool_s / 60)
    done = model.new_int_var(0, last, "done")
    hands: list[Any] = []
    on: list[list[Any]] = [[] for _ in shop.machines]
    for n, length in enumerate(lengths):
        start = model.new_int_var(0, last, f"start {n}")
        cleared = model.new_int_var_from_domain(staffed, f"clear {n}")
        end = model.new_int_var(0, last, f"end {n}")
        model.add(cleared >= start + length + cool + walk)
        model.add(end == cleared + clear)
        model.add(done >= end)
        hands.append(model.new_interval_var(cleared, clear, end, f"hands {n}"))
        chosen = []
        for m, machine in enumerate(on):
            here = model.new_bool_var(f"{n} on {m}")
            size = model.new_int_var(0, last, f"size {n} {m}")
            machine.append(model.new_optional_interval_var(start, size, end, here, f"bed {n} {m}"))
            chosen.append(here)
        model.add_exactly_one(chosen)
    model.add_no_overlap(hands)
    for machine in on:
        model.add_no_overlap(machine)
    model.minimize(done)
    solver = cp_model.CpSolver()
    solver.parameters.max_time_in_seconds = WITHIN_S
    solver.parameters.num_workers = 2
    status = solver.solve(model)
    if status not in (cp_model.OPTIMAL, cp_model.FEASIBLE):
        raise RuntimeError("no schedule was found in time; make the shop smaller")
    return Best(solver.objective_value, status == cp_model.OPTIMAL)


def _minute(at: datetime, zero: datetime) -> int:
    return int((at - zero) / timedelta(minutes=1))
