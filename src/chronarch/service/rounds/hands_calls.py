"""What hands must do next, told at the machine itself: on its display, and by its light."""

from __future__ import annotations

import asyncio
import logging
from collections import defaultdict
from dataclasses import dataclass, field

from chronarch.core.machines.model import WIDEST_DISPLAY
from chronarch.core.machines.states import MachineState
from chronarch.core.rounds.short_words import short_words
from chronarch.core.rounds.tasks import Task
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.planning.planner import Planner
from chronarch.service.problems import ApiProblem
from chronarch.service.rounds.tasks import tasks_now
from chronarch.wire.control.commands import AskHands

LOOK_EVERY_S = 3.0
WITHIN_S, AGAIN_S = 10.0, 10.0
"""How long a machine may take to be told, and when one that could not be told is told again."""
TAKES_NONE = frozenset({MachineState.OFFLINE, MachineState.DOWN})
log = logging.getLogger("chronarch.rounds")


@dataclass
class HandsCalls:
    """Each machine is told when what it should show is something else than what it was told last over the same
    connection of its tender."""

    context: ServiceContext
    fleet: Fleet
    planner: Planner
    _told: dict[str, tuple[object, str]] = field(default_factory=dict)
    _again_s: dict[str, float] = field(default_factory=dict)

    async def look(self) -> None:
        planned, now = await self.planner.shown(), self.context.clock.now()
        async with self.context.sessions() as db:
            found = await tasks_now(now, self.fleet, planned, db)
        there: dict[str, list[Task]] = defaultdict(list)
        for task in found:
            there[task.machine].append(task)
        known = self.fleet.all()
        names = {one.row.name for one in known}
        self._told = {name: told for name, told in self._told.items() if name in names}
        self._again_s = {name: at for name, at in self._again_s.items() if name in names}
        await asyncio.gather(*(self._tell(one, there[one.row.name]) for one in known))

    async def _tell(self, known: FleetMachine, tasks: list[Task]) -> None:
        name, connection = known.row.name, self.fleet.connections.get(known.tender)
        if connection is None or known.row.state in TAKES_NONE:
            self._told.pop(name, None)
            return
        chars = known.model.display_chars or (WIDEST_DISPLAY if known.model.hands_light else 0)
        wanted = connection, short_words(tasks, chars)
        if self._told.get(name) == wanted or self.context.clock.monotonic_s() < self._again_s.get(name, 0.0):
            return
        try:
            await self.fleet.command(known, AskHands(text=wanted[1]), within_s=WITHIN_S)
        except ApiProblem as error:
            log.info("%s was not told what hands must do: %s", name, error)
            self._again_s[name] = self.context.clock.monotonic_s() + AGAIN_S
            return
        self._told[name] = wanted
