"""Lights that are on for pictures: a camera may name a switch of its machine, which is on while somebody looks, and
while the machine works, so that the frames that are kept of it show something."""

from __future__ import annotations

import logging
from dataclasses import dataclass, field

from chronarch.core.control.actions import Switch
from chronarch.core.machines.states import WORKING
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.cameras import Cameras, KnownCamera
from chronarch.wire.control.commands import Act

LOOK_EVERY_S = 0.5
OFF_AFTER_S, AGAIN_S = 10.0, 10.0
"""How long no picture was wanted when a light is turned off, and when a machine that refused is asked again."""
BY = "camera"
log = logging.getLogger("chronarch.light")


@dataclass
class RoomLight:
    """Turns lights on when pictures are taken, and those off again that it has turned on itself."""

    context: ServiceContext
    fleet: Fleet
    cameras: Cameras
    _lit: dict[tuple[str, str], float] = field(default_factory=dict)
    """By machine and switch: when it was wanted last, real seconds."""
    _refused: dict[tuple[str, str], float] = field(default_factory=dict)

    async def look(self) -> None:
        now_s = self.context.clock.monotonic_s()
        for known in self.cameras.all():
            if known.settings.light and known.machine and self._wanted(known):
                light = known.machine, known.settings.light
                if light in self._lit or await self._turn(*light, on=True, now_s=now_s):
                    self._lit[light] = now_s
        for light, seen_s in list(self._lit.items()):
            if now_s - seen_s >= OFF_AFTER_S and await self._turn(*light, on=False, now_s=now_s):
                del self._lit[light]

    def _wanted(self, known: KnownCamera) -> bool:
        return any(known.rates) or self.fleet.find(known.machine).row.state in WORKING

    async def _turn(self, machine: str, switch: str, *, on: bool, now_s: float) -> bool:
        """Whether it is turned, or there is nothing that could be."""
        light = machine, switch
        if now_s - self._refused.get(light, -AGAIN_S) < AGAIN_S:
            return False
        try:
            await self.fleet.command(self.fleet.find(machine), Act(action=Switch(switch, on)), BY)
        except ApiProblem as error:
            if error.status == 404:
                return True
            log.info("the light of %s was not turned: %s", machine, error)
            self._refused[light] = now_s
            return False
        self._refused.pop(light, None)
        return True
