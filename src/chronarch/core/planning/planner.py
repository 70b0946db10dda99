"""Turns a snapshot into a plan: makes the tables of the compiled run, and assignments from the rows that it returns."""

from __future__ import annotations

from datetime import datetime, timedelta
from functools import cache, partial
from itertools import chain, product, repeat
from math import inf
from typing import Any, NamedTuple

import numpy as np

from chronarch.core.planning import kernel as r
from chronarch.core.planning.fits import nozzle_table, spool_kind, spool_table
from chronarch.core.planning.snapshot import (
    Assignment,
    ChoiceReason,
    Costs,
    LoadedSpool,
    MachineSlot,
    NeedRow,
    QueuePlan,
    SlotPhase,
    Snapshot,
    Strategy,
    WaitingWork,
)

STRATEGIES = {Strategy.FIRST_COME: r.FIRST_COME, Strategy.DUE_FIRST: r.DUE_FIRST, Strategy.HANDS_AWARE: r.HANDS_AWARE}
HORIZON_S = 120 * 86400.0
NIGHTS = 0.12
"""Roughly the share of all time in which machines work while nobody is there."""
PRESS_S, EARLY_S = (3600.0, 14400.0), (0.0, 21600.0, 86400.0, inf)
"""How many seconds before its latest start a job that is due becomes urgent, and how much earlier by day. Every pair is
tried; the first of each is the usual one."""
BETTER, MARGIN, SOON_S = 1.01, 1.05, 2 * 86400.0
"""A plan must be worth this many times as much to be chosen. A plan other than the one people have seen is chosen for
fewer late jobs even if everything takes this many times as long. A working hour of a machine that comes this many
seconds later counts a third."""
TRIES_FOR = 40_000
"""Several plans are tried for a shop with at most this many machines times builds."""
MOST = 200_000
"""The most builds that one plan contains."""
Table = np.ndarray[Any, np.dtype[np.float64]]
Numbers = np.ndarray[Any, np.dtype[np.int64]]


def make_plan(
    shop: Snapshot, before: QueuePlan | None = None, only_fresh: frozenset[int] = frozenset(), most: int = MOST
) -> QueuePlan:
    """What each machine does next. With the plan `before`, what it said stays where it can still begin within the
    costs' `steady_s` of what was said; jobs that it did not have, and those of `only_fresh` (changed since), may take
    their place where the strategy wants them more; only a plan that is plainly better, in what is late or in what
    machines work, replaces it whole. Without, everything is chosen anew. Deterministic."""
    return _PlanRun(shop, before, only_fresh, most).plan()


def _grams(spool: LoadedSpool) -> float:
    return spool.grams


class _PlanRun:
    def __init__(self, shop: Snapshot, before: QueuePlan | None, fresh: frozenset[int], most: int) -> None:
        self.shop = shop
        self.machines = [m for m in shop.machines if m.phase is not SlotPhase.AWAY]
        self.work = [w for w in shop.work if w.builds > 0]
        self.kinds = {k: n for n, k in enumerate(dict.fromkeys(m.kind for m in self.machines))}
        self.sites = {s: n for n, s in enumerate(dict.fromkeys(["", *(m.site for m in self.machines)]))}
        spools = [*(m.spool for m in self.machines), *shop.spares]
        self.spools = {k: n for n, k in enumerate(dict.fromkeys([("", ""), *map(spool_kind, spools)]))}
        self.named = {spool_kind(s): s for s in [*(m.spool for m in self.machines), *sorted(shop.spares, key=_grams)]}
        self.nozzles = {
            k: n for n, k in enumerate(dict.fromkeys([*(m.nozzle for m in self.machines), *shop.costs.spare_nozzles]))
        }
        needs = dict.fromkeys(id(w.need) for w in self.work)
        self.needs = {key: n for n, key in enumerate(needs)}
        self.rows = {id(w.need): w.need for w in self.work}
        self.most, self.before, self.fresh = most, before, fresh

    def plan(self) -> QueuePlan:
        """Run the rules over the snapshot's tables."""
        if not self.machines:
            return QueuePlan(self.shop.at, self.shop.strategy, (), {}, {w.job: w.builds for w in self.work})
        return self._read(*self._best(self._board()))

    def _best(self, board: r.SlotArrays) -> _Tried:
        """The plan that the rules make of the board. With the strategy that is aware of hands, and in a shop that is
        not too large, the best of several tries: from nothing, with jobs that are due becoming urgent later or sooner,
        and from what was planned before, which stays unless another is plainly better."""
        small = len(self.machines) * len(board.plan) <= TRIES_FOR
        if self.shop.strategy is not Strategy.HANDS_AWARE or not small:
            return _Tried(r.run(board), board)
        nothing = board._replace(before=board.before[:0], places=0 * board.places, fresh=0 * board.fresh[:1])
        best, *others = (_try(nothing, *pressing) for pressing in product(PRESS_S, EARLY_S))
        for tried in others:
            if tried.beats(best):
                best = tried
        if self.before is None:
            return best
        kept = _try(board, PRESS_S[0], EARLY_S[0])
        return best if best.beats(kept, MARGIN) else kept

    def _board(self) -> r.SlotArrays:
        spans, sites = self._hands()
        jobs, offers, seconds = self._jobs(self._off_bed_by(spans, sites))
        rows = [self.rows[key] for key in self.needs]
        kinds, nozzles = list(self.spools), list(self.nozzles)
        before, places = self._before()
        c = self.shop.costs
        strategy = STRATEGIES[self.shop.strategy]
        rules = (strategy, c.clear_s, c.spool_s, c.nozzle_s, c.walk_s, c.steady_s, HORIZON_S, PRESS_S[0], EARLY_S[0])
        lengths = np.zeros(r.LENGTHS, np.int64)
        for n, shortest in enumerate(seconds.min(axis=1, initial=inf).tolist()):
            if shortest < inf:
                lengths[r.bucket(shortest)] += int(offers[n, r.O_WAITING])
        return r.SlotArrays(
            machines=self._machines(),
            jobs=jobs,
            offers=offers,
            seconds=seconds,
            spool_ok=spool_table(rows, kinds),
            nozzle_ok=nozzle_table(rows, nozzles),
            upkeep=np.array([(n, *span) for n, m in enumerate(self.machines) for span in m.upkeep]).reshape(-1, 3),
            stock=self._stock(),
            spans=spans,
            sites=sites,
            free=np.zeros((len(sites), max(1, int(sites[:, 2].max())))),
            rushes=np.array([(-inf, 0.0)] * len(sites)),
            rules=np.array(rules, float),
            before=before,
            places=places,
            fresh=self._fresh(),
            alive=np.array([len(self.work), *range(len(self.work))], np.int64),
            lengths=lengths,
            soonest=np.zeros(-(-len(self.machines) // r.BLOCK)),
            plan=np.zeros((min(self.most, sum(w.builds for w in self.work)), r.ASSIGNED)),
        )

    def _machines(self) -> Table:
        rows = [
            (
                m.phase, m.free_s, m.idle_s, self.kinds[m.kind], self.sites[m.site], self.spools[spool_kind(m.spool)],
                m.spool.grams, self.nozzles[m.nozzle], m.by_hand, m.takes, m.cool_s, m.releases, m.releases_left,
                m.release_s, -1, -1,
            )
            for m in self.machines
        ]  # fmt: skip
        return np.array(rows, float).reshape(-1, r.MACHINE)

    def _jobs(self, due: Table) -> tuple[Table, Table, Table]:
        """Jobs (`due`: by when each must be off its bed), offers still to be looked at, and seconds by need and kind of
        machine."""
        needs, kinds = list(self.rows.values()), list(self.kinds)
        each = (map(need.duration_s.get, kinds, repeat(inf)) for need in needs)
        seconds = np.fromiter(chain.from_iterable(each), float).reshape(len(needs), len(kinds))
        offers = np.zeros((len(self.needs), r.OFFER))
        for n, key in enumerate(self.needs):
            offers[n, r.O_GRAMS] = self.rows[key].grams
        members = np.bincount([self.kinds[m.kind] for m in self.machines], minlength=len(self.kinds))
        places = (np.isfinite(seconds) * members).sum(1)
        rows = []
        for w, by in zip(self.work, due.tolist(), strict=True):
            n = self.needs[id(w.need)]
            offers[n, r.O_WAITING] += w.builds
            rows.append((w.builds, n, w.line, w.top, w.priority, by, w.not_before_s, places[n], inf))
        jobs = np.array(rows, float).reshape(-1, r.JOB)
        self._press(jobs, seconds)
        return jobs, offers, seconds

    def _off_bed_by(self, spans: Table, sites: Numbers) -> Table:
        """By when the last piece of each job must be off its bed: what is due while nobody is there must be lifted off
        and judged before people leave."""
        due = np.array([w.due_s for w in self.work], float)
        by = np.full(len(due), -inf)
        for site in {self.sites[m.site] for m in self.machines}:
            begin, end = spans[sites[site, 0] : sites[site, 1]].T
            if len(end):
                row = np.searchsorted(begin, due) - 1
                leave = np.where(row < 0, 0.0, end[row] + self.shop.costs.clear_s)
                by = np.maximum(by, np.where(due < end[-1], np.minimum(due, leave), due))
        return np.where(by > -inf, by, due)

    def _press(self, jobs: Table, seconds: Table) -> None:
        """From when on each job that is due presses by day: what is due no later takes the shop so long. Machines work
        while somebody is there and some of the nights; hands clear one bed at a time."""
        if not len(jobs):
            return
        shortest = np.min(seconds, axis=1, initial=inf)[jobs[:, r.J_NEED].astype(int)]
        work = np.where(np.isfinite(shortest), shortest, 0.0) * jobs[:, r.J_BUILDS]
        order = np.argsort(jobs[:, r.J_DUE], kind="stable")
        before = np.cumsum(work[order])
        beds = np.cumsum(jobs[order, r.J_BUILDS])
        spans, people = self.shop.hands.get("", ((), 1))
        week = self.shop.at + timedelta(days=7)
        staffed = sum(max(0.0, _since(min(b, week), max(a, self.shop.at))) for a, b in spans if a < week)
        share = min(0.9, staffed / (7 * 86400) + NIGHTS)
        by_machines = before / (share * max(1, len(self.machines)))
        waits = sum(m.releases == 0 for m in self.machines) / max(1, len(self.machines))
        each = self.shop.costs.clear_s + self.shop.costs.walk_s / 2
        by_hands = waits * beds * each / max(0.05, people * staffed / (7 * 86400))
        jobs[order, r.J_LATEST] = jobs[order, r.J_DUE] - np.maximum(by_machines, by_hands)

    def _stock(self) -> Table:
        stock = np.zeros((3, max(len(self.spools), len(self.nozzles))))
        for s in self.shop.spares:
            n = self.spools[spool_kind(s)]
            stock[r.S_SPOOLS, n] += 1
            stock[r.S_GRAMS, n] = max(stock[r.S_GRAMS, n], s.grams)
        for nozzle in self.shop.costs.spare_nozzles:
            stock[r.S_NOZZLES, self.nozzles[nozzle]] += 1
        return stock

    def _hands(self) -> tuple[Table, Numbers]:
        spans: list[tuple[float, float]] = []
        sites = []
        for site in self.sites:
            staffed, people = self.shop.hands.get(site, self.shop.hands.get("", ((), 1)))
            first = len(spans)
            spans += [(_since(a, self.shop.at), _since(b, self.shop.at)) for a, b in staffed if b > self.shop.at]
            waits = sum(m.releases == 0 for m in self.machines if m.site == site)
            sites.append((first, len(spans), max(1, people), waits))
        return np.array(spans, float).reshape(-1, 2), np.array(sites, np.int64)

    def _before(self) -> tuple[Table, Numbers]:
        """The plan before, machine after machine, and where each machine's rows are."""
        if self.before is None:
            return np.zeros((0, 3)), np.zeros((len(self.machines), 2), np.int64)
        gone = _since(self.shop.at, self.before.at)
        machines = {m.name: n for n, m in enumerate(self.machines)}
        jobs = {w.job: n for n, w in enumerate(self.work)}
        rows = np.array(
            [
                (machines.get(a.machine, -1), jobs.get(a.job, -1), a.wait_s, a.start_s - gone)
                for a in self.before.assignments
            ],
            float,
        ).reshape(-1, 4)  # fmt: skip
        rows = rows[(rows[:, 0] >= 0) & (rows[:, 1] >= 0)]
        rows = rows[np.argsort(rows[:, 0], kind="stable")]
        edges = np.searchsorted(rows[:, 0], np.arange(len(self.machines) + 1))
        return np.ascontiguousarray(rows[:, 1:]), np.stack([edges[:-1], edges[1:]], 1).astype(np.int64)

    def _fresh(self) -> Numbers:
        if self.before is None:
            return np.zeros(1, np.int64)
        had = {a.job for a in self.before.assignments}
        fresh = [n for n, w in enumerate(self.work) if w.job not in had or w.job in self.fresh]
        room = np.zeros(1 + len(fresh) + len(self.before.assignments), np.int64)
        room[: 1 + len(fresh)] = [len(fresh), *fresh]
        return room

    def _read(self, made: int, board: r.SlotArrays) -> QueuePlan:
        names = [m.name for m in self.machines]
        numbers = [w.job for w in self.work]
        kinds, nozzles, whys = list(self.spools), list(self.nozzles), list(ChoiceReason)
        table = board.plan[:made][np.argsort(board.plan[:made, r.A_START], kind="stable")]
        column = table.T.tolist()
        counted = (r.A_MACHINE, r.A_JOB, r.A_SPOOL, r.A_NOZZLE, r.A_WHY, r.A_CHOICES)
        machine, job, spool, nozzle, why, choices = table[:, counted].astype(np.int64).T.tolist()
        load = [self.named.get(k) for k in kinds] + [None]
        put_on = [*nozzles, None]
        found = map(
            partial(tuple.__new__, Assignment),
            zip(
                [names[m] for m in machine], [numbers[j] for j in job],
                [None if h == inf else h for h in column[r.A_HANDS]],
                column[r.A_START], column[r.A_END], column[r.A_CLEARED],
                [load[n] for n in spool], [put_on[n] for n in nozzle], [whys[n] for n in why],
                column[r.A_WAIT], choices, strict=True,
            ),
        )  # fmt: skip
        first = board.machines[:, r.M_CLEARED].tolist()
        clear = {name: t for name, t in zip(names, first, strict=True) if t >= 0}
        left = {w.job: int(n) for w, n in zip(self.work, board.jobs[:, r.J_BUILDS], strict=True) if n > 0}
        return QueuePlan(self.shop.at, self.shop.strategy, tuple(found), clear, left)


class _Tried(NamedTuple):
    """The result of one run of the rules: how many builds, and the tables as it left them."""

    made: int
    board: r.SlotArrays

    def beats(self, other: _Tried, margin: float = 1.0) -> bool:
        """Whether fewer jobs would be late, even if all took `margin` times as long; or as few are late, and the
        working time of the machines is worth more."""
        mine, others = self.late(margin), other.late()
        return mine < others or (mine == others and self.worth() > BETTER * other.worth())

    def late(self, margin: float = 1.0) -> int:
        """How many jobs have their last bed cleared too late."""
        plan, jobs = self.board.plan[: self.made], self.board.jobs
        last = np.zeros(len(jobs))
        np.maximum.at(last, plan[:, r.A_JOB].astype(int), plan[:, r.A_CLEARED])
        last[jobs[:, r.J_BUILDS] > 0] = inf
        return int((np.isfinite(jobs[:, r.J_DUE]) & (margin * last > jobs[:, r.J_DUE])).sum())

    def worth(self) -> float:
        """The value of the machines' working time; tomorrow's counts less than today's."""
        plan = self.board.plan[: self.made]
        return float((np.exp(-plan[:, r.A_START] / SOON_S) - np.exp(-plan[:, r.A_END] / SOON_S)).sum())


def _try(board: r.SlotArrays, press_s: float, early_s: float) -> _Tried:
    tried = r.SlotArrays(*(table.copy() for table in board))
    tried.rules[[r.R_PRESS, r.R_EARLY]] = press_s, early_s
    return _Tried(r.run(tried), tried)


def _since(at: datetime, moment: datetime) -> float:
    return (at - moment) / timedelta(seconds=1)


@cache
def compile_run() -> None:
    """Compile the run, or find it compiled."""
    kind = "any"
    at = datetime(2026, 1, 1)
    hands = {"": (((at, at + timedelta(days=1)),), 1)}
    work = (WaitingWork(1, 1, NeedRow({kind: 60.0})),)
    make_plan(Snapshot(at, (MachineSlot("a", kind),), work, hands, (), Costs()))
