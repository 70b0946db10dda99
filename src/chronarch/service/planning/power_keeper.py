"""Turns machines off when there has been nothing to do, and on again before the plan's next build."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import timedelta

from chronarch.core.machines.plugs import PowerRules
from chronarch.core.machines.states import MachineState
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.machines.plugs import turn_power
from chronarch.service.planning.planner import Planner
from chronarch.service.problems import ApiProblem
from chronarch.wire.machines.power import PowerWish, power_rules

LOOK_EVERY_S = 2.0
MARGIN_S = 120.0
"""A machine is turned on so long before it must be, shop seconds; and not turned off for less than twice its
start-up."""
RESTS = frozenset({MachineState.IDLE, MachineState.UNCLEARED})
BY = "the shop"
log = logging.getLogger("chronarch.power")


@dataclass
class PowerKeeper:
    """`look` is the step of a worker."""

    context: ServiceContext
    fleet: Fleet
    planner: Planner

    async def look(self) -> None:
        minded = [known for known in self.fleet.all() if known.plug is not None and self.fleet.reachable(known)]
        if not minded:
            return
        plan = (await self.planner.current()).plan
        for known in minded:
            assert known.plug is not None
            rules = power_rules.validate_python(known.plug[0].rules)
            following = plan.next_on(known.row.name)
            next_s = following.start_s if following is not None else None
            on = self._wanted(known, rules, next_s)
            if on is not None:
                await self._turn(known, on)

    def _wanted(self, known: FleetMachine, rules: PowerRules, next_s: float | None) -> bool | None:
        """Whether a machine is to be turned on (True) or off (False) now; None to leave it."""
        power = known.sample.power if known.sample else None
        if power is None or power.on is None:
            return None
        if self.fleet.asleep(known):
            return True if next_s is not None and next_s <= rules.start_up_s + MARGIN_S else None
        state = MachineState(known.row.state)
        soon = next_s is not None and next_s < 2 * rules.start_up_s + MARGIN_S
        if not power.on or not rules.off_after_min or state not in RESTS or soon:
            return None
        since = max(known.row.since, known.woken_at or known.row.since)
        after = timedelta(minutes=rules.off_after_min)
        return False if self.context.clock.now() - since >= after and self._is_cool(known, rules) else None

    @staticmethod
    def _is_cool(known: FleetMachine, rules: PowerRules) -> bool:
        reading = known.sample.reading if known.sample else None
        if reading is None:
            return False
        return all((heater.measured_c or 0.0) <= rules.cool_c for heater in (reading.nozzle, reading.bed))

    async def _turn(self, known: FleetMachine, on: bool) -> None:
        try:
            await turn_power(self.context, self.fleet, known, PowerWish(on=on), BY, by_itself=True)
            log.info("%s was turned %s", known.row.name, "on" if on else "off")
        except ApiProblem as error:
            log.info("%s was not turned %s: %s", known.row.name, "on" if on else "off", error)
