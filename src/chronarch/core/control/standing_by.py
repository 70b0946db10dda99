"""What is due by time while lines are fed or a build waits: heat queries, and a nozzle that is let cool."""

from __future__ import annotations

from datetime import datetime

from chronarch.core.control import command_sequences as programs
from chronarch.core.control.build_feeder import BuildFeeder
from chronarch.core.control.events import Noticed
from chronarch.core.control.heater_safety import HeaterSafety
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import CommandSequence
from chronarch.core.control.phases import FeedingPhase

QUERIES_REST = 15
"""After a query, ask nothing for this many times as long as the query took, so that queries use a small share of a slow
wire."""
ASK_HEAT_S = 4.0
"""How often a machine that does not report its heat by itself is asked, in shop seconds."""


class HeatQueries:
    """Asks a machine that does not report its heat by itself, and keeps a machine's watchdog from taking a long wait
    for a dead tender."""

    def __init__(self, feeder: BuildFeeder) -> None:
        self._feeder = feeder
        self._asked_at: datetime | None = None
        self._query: InjectedCommands | None = None
        self._began_s = self._ended_s = self._cost_s = 0.0

    def _every_s(self) -> float:
        """How often to ask; 0 for never."""
        feeder, machine = self._feeder, self._feeder.machine
        if machine.contact.reports_heat is False:
            return ASK_HEAT_S * feeder.report_every_s
        waiting = feeder.phase in (FeedingPhase.PARKED, FeedingPhase.RESTING)
        return machine.model.watchdog_s / 4 if machine.watchdog and waiting else 0.0

    def tick(self) -> None:
        feeder, now = self._feeder, self._feeder.machine.now()
        every_s = self._every_s()
        there = feeder.phase in (FeedingPhase.FEEDING, FeedingPhase.PARKED, FeedingPhase.RESTING)
        if not every_s or not there or feeder.queue.busy:
            return
        if self._query is not None:
            self._cost_s, self._query = now.real_s - self._began_s, None
            self._ended_s = now.real_s
        self._asked_at = self._asked_at or now.shop
        due = (now.shop - self._asked_at).total_seconds() >= every_s and feeder.prepared and not feeder.unsure
        if due and now.real_s - self._ended_s >= QUERIES_REST * self._cost_s:
            self._asked_at, self._began_s = now.shop, now.real_s
            self._query = feeder.inject((b"M105",))


def let_nozzle_rest(feeder: BuildFeeder, heaters: HeaterSafety) -> None:
    """Let the nozzle of a build that waits for long cool, so that what is in it does not burn."""
    machine, now = feeder.machine, feeder.machine.now().shop
    if feeder.phase is not FeedingPhase.PARKED or feeder.unsure or not feeder.link_rests:
        return
    feeder.parked_at = feeder.parked_at or now
    waited_s = (now - max(feeder.parked_at, heaters.touched_at or feeder.parked_at)).total_seconds()
    rest_s, hot = machine.model.rest_after_s, (machine.heat.nozzle_asked_c or 0) > 0
    if rest_s and hot and waited_s >= rest_s and not feeder.nozzle_rests:
        feeder.nozzle_rests = True
        feeder.carry(CommandSequence(programs.nozzles_off(machine.model)))
        text = "the nozzle is let cool while the build waits; resuming heats it again"
        machine.tell(Noticed(text, machine.build, True))
