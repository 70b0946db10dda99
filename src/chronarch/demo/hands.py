"""Somebody who does the rounds in the demo, as a person would: in staffed hours, one thing after another, walking and
taking minutes. What a visitor has done meanwhile is left as it is. Sent away (`chronarch demo hands away`), nobody does
anything."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path

from chronarch.client import Client, RefusedByService, requests
from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.core.rounds.tasks import TaskKind
from chronarch.wire.machines import spools as ws
from chronarch.wire.orders.jobs import NewJob
from chronarch.wire.rounds import RoundTask

MINUTES = {
    TaskKind.LOOK: 3.0,
    TaskKind.FIX: 8.0,
    TaskKind.CLEAR: 3.0,
    TaskKind.CONFIRM: 3.0,
    TaskKind.LOAD: 4.0,
    TaskKind.NOZZLE: 15.0,
    TaskKind.START: 1.0,
    TaskKind.JUDGE: 1.0,
}
"""What each task takes, shop minutes. Upkeep is left to whoever visits the shop."""
COMES_AFTER, WALK = (2.0, 6.0), (0.5, 2.0)
"""How long until somebody has seen that there is something to do, and a walk to the next machine, minutes."""
GOOD = 0.95
NOT_AGAIN = timedelta(minutes=30)
FEW_WAITING = 4
FULL_G = 1000.0


def hands_are_away(path: Path) -> bool:
    """Whether somebody has sent the simulated hands away."""
    try:
        return bool(json.loads(path.read_text())["away"])
    except (OSError, ValueError, KeyError):
        return False


def send_hands(path: Path, *, away: bool) -> None:
    fresh = path.with_suffix(".new")
    fresh.write_text(json.dumps({"away": away}))
    fresh.replace(path)


@dataclass
class SimulatedHands:
    """`step` is called again and again. `state` is the file that says whether they are away."""

    client: Client
    state: Path
    more: tuple[NewJob, ...] = ()
    """Work that is queued again when little waits."""
    failing: Callable[[str], bool] = lambda machine: False
    """Whether somebody who looks at a machine sees that its build has failed."""
    lifted_off: Callable[[str], bool] = lambda machine: False
    """Whether somebody who looks at a machine's bed sees something on it; it is lifted off then."""
    lot: random.Random = field(default_factory=lambda: random.Random(7))
    _task: RoundTask | None = None
    _done_at: datetime | None = None
    _not_before: dict[tuple[TaskKind, str], datetime] = field(default_factory=dict)
    _next_more: int = 0

    def step(self) -> None:
        """Go on with what is at hand, or begin the next thing. Raises ClientError when the service is away."""
        if hands_are_away(self.state):
            self._task = None
            return
        rounds = self.client.do(requests.rounds())
        now = rounds.at
        if not rounds.staffed:
            self._task = None
            return
        if self._task is not None and self._done_at is not None:
            if now < self._done_at:
                return
            mine, self._task = self._task, None
            if any(_same(mine, other) for other in rounds.tasks):  # else the visitor was quicker
                self._try(mine, rounds.scrap_reasons, now)
            return
        self._queue_more()
        waiting = [t for t in rounds.tasks if t.kind in DEEDS and now >= self._not_before.get((t.kind, t.machine), now)]
        if waiting:
            self._task = min(waiting, key=lambda t: t.walk)
            walks = COMES_AFTER if now - self._task.since < timedelta(minutes=2) else WALK
            minutes = self.lot.uniform(*walks) + MINUTES[self._task.kind] * self.lot.uniform(0.8, 1.3)
            self._done_at = now + timedelta(minutes=minutes)

    def _try(self, task: RoundTask, reasons: list[str], now: datetime) -> None:
        try:
            done = DEEDS[task.kind](self, task, reasons)
        except RefusedByService:
            done = False
        if not done:
            self._not_before[task.kind, task.machine] = now + NOT_AGAIN

    def _queue_more(self) -> None:
        """A shop has customers: when little waits, something is wanted again."""
        if self.more and len(self.client.do(requests.queue()).jobs) < FEW_WAITING:
            self.client.do(requests.submit(self.more[self._next_more % len(self.more)]))
            self._next_more += 1

    # What is done --------------------------------------------------------------------------------------------

    def _judge(self, task: RoundTask, reasons: list[str]) -> bool:
        if task.build is None:
            return False
        good = (self.lot.random() < GOOD or not reasons) and not self.failing(task.machine)
        reason = "" if good else self.lot.choice(reasons or ["failed"])
        self.client.do(requests.verdict(task.build, Verdict.GOOD if good else Verdict.SCRAP, reason))
        return True

    def _load(self, task: RoundTask, reasons: list[str]) -> bool:
        wanted = (task.next.load if task.next else "").lower()
        shelf = [s for s in self.client.all(requests.spools()) if s.machine is None]
        fits = [s for s in shelf if f"{s.colour} {s.material}".strip().lower() == wanted]
        if fits:
            spool = max(fits, key=lambda s: s.grams_left)
        else:
            colour, _, material = wanted.rpartition(" ")
            known = next((s for s in shelf if s.material.lower() == material), None)
            name = known.material if known else material.upper()
            spool = self.client.do(requests.add_spool(ws.NewSpool(material=name, colour=colour, grams_full=FULL_G)))
        self.client.do(requests.load_spool(spool.id, task.machine))
        return True

    def _nozzle(self, task: RoundTask, reasons: list[str]) -> bool:
        wanted = task.next
        if wanted is None or wanted.nozzle_mm is None:
            return False
        first, *others = self.client.do(requests.machine(task.machine)).tools
        first = replace(first, nozzle_mm=wanted.nozzle_mm, hardened=wanted.hardened)
        self.client.do(requests.change_machine(task.machine, tools=[first, *others]))
        return True

    def _look(self, task: RoundTask, reasons: list[str]) -> bool:
        machine = self.client.do(requests.machine(task.machine))
        if machine.state is MachineState.IDLE:
            for suspicion in self.client.do(requests.suspicions(task.machine, unanswered=True)):
                self.client.do(requests.answer_suspicion(suspicion.number, right=self.lifted_off(task.machine)))
            return True
        if machine.state is not MachineState.PAUSED or machine.build is None:
            return True
        failed, build = self.failing(task.machine), machine.build.id
        for suspicion in self.client.do(requests.suspicions(build=build, unanswered=True)):
            self.client.do(requests.answer_suspicion(suspicion.number, right=failed))
        self.client.do(requests.stop(build, "it had failed") if failed else requests.resume(build))
        return True

    def _fix(self, task: RoundTask, reasons: list[str]) -> bool:
        self.client.do(requests.put_back(task.machine))
        return True

    def _start(self, task: RoundTask, reasons: list[str]) -> bool:
        self.client.do(requests.start_next(task.machine))
        return True


def _same(a: RoundTask, b: RoundTask) -> bool:
    return (a.kind, a.machine, a.build) == (b.kind, b.machine, b.build)


DEEDS: dict[TaskKind, Callable[[SimulatedHands, RoundTask, list[str]], bool]] = {
    TaskKind.LOOK: SimulatedHands._look,
    TaskKind.FIX: SimulatedHands._fix,
    TaskKind.CLEAR: SimulatedHands._judge,
    TaskKind.CONFIRM: SimulatedHands._judge,
    TaskKind.LOAD: SimulatedHands._load,
    TaskKind.NOZZLE: SimulatedHands._nozzle,
    TaskKind.START: SimulatedHands._start,
    TaskKind.JUDGE: SimulatedHands._judge,
}
