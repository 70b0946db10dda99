"""Minds the plug of one machine: what it says, turning it, what was drawn, and draws that do not fit."""

from __future__ import annotations

import asyncio
import logging
from datetime import datetime

from chronarch.core.backoff import Backoff
from chronarch.core.clock import Clock
from chronarch.core.control.actions import Adjust, NotPossible
from chronarch.core.control.controller import MachineController
from chronarch.core.control.events import ControlEvent, EnergyUsed, Noticed
from chronarch.core.machines.plugs import PlugFault, PlugReport, PowerRules, why_not_off
from chronarch.core.machines.power_use import FAR_BELOW_C, EnergyMeter, PowerWatch
from chronarch.core.machines.states import WrongState
from chronarch.tender.controllers.driver import MachineDriver
from chronarch.tender.peripherals.plugs.http_plug import HttpPlug
from chronarch.tender.peripherals.plugs.mqtt_plug import MqttPlug
from chronarch.tender.peripherals.plugs.plug import PlugConnection
from chronarch.wire.machines.power import PlugSetup, Power

WAYS: dict[str, type[PlugConnection]] = {"http": HttpPlug, "mqtt": MqttPlug}
"""By the kind of a profile."""
READ_EVERY_S, TURNED_WITHIN_S, TOLD_AFTER_S = 1.0, 8.0, 60.0
"""Real seconds; a plug that says nothing for the last of them is told of."""
WAITS_S, LASTING_S = (1.0, 2.0, 5.0, 10.0, 30.0), 60.0
log = logging.getLogger("chronarch.plugs")


class PlugKeeper:
    """`run` goes on until cancelled. `turn` may be called at any time."""

    def __init__(self, driver: MachineDriver, setup: PlugSetup, clock: Clock, keep_away: tuple[str, int]) -> None:
        self.setup = setup
        self.power = Power()
        self._driver, self._clock = driver, clock
        self._plug = WAYS[setup.profile.kind](setup, keep_away)
        self._asking = asyncio.Lock()
        self._meter, self._watch = EnergyMeter(), PowerWatch()
        self._silent_since_s: float | None = None
        self._told = False

    @property
    def rules(self) -> PowerRules:
        return self.setup.rules

    @property
    def _controller(self) -> MachineController:
        return self._driver.controller

    async def run(self) -> None:
        backoff = Backoff(WAITS_S, LASTING_S)
        try:
            while True:
                began_s = self._clock.monotonic_s()
                try:
                    while True:
                        await self._read()
                        await asyncio.sleep(READ_EVERY_S)
                except PlugFault as error:
                    self._fails(str(error))
                except Exception as error:
                    log.exception("the plug of %s went wrong", self._driver.config.machine)
                    self._fails(f"it could not be read ({type(error).__name__})")
                await asyncio.sleep(backoff.next_s(self._clock.monotonic_s() - began_s))
        finally:
            await self._plug.close()

    async def _read(self) -> PlugReport:
        async with self._asking:
            report = await self._plug.read()
        self._take(report)
        return report

    def _take(self, report: PlugReport) -> None:
        self.power = Power(on=report.on, watts=report.watts)
        self._silent_since_s, self._told = None, False
        machine, now = self._controller.machine, self._clock.now()
        machine.switched_off = report.on is False
        state, build = machine.shown_state, machine.build
        used = self._meter.take(now, state, build, report.watts, report.wh)
        if used is not None:
            self._tell(now, EnergyUsed(used.begin, used.state, round(used.wh, 4), used.build))
        heat = machine.heat
        pairs = ((heat.nozzle_c, heat.nozzle_asked_c), (heat.bed_c, heat.bed_asked_c))
        heating = not machine.offline and any(asked and c is not None and c < asked - FAR_BELOW_C for c, asked in pairs)
        for text in self._watch.look(now, state, heating=heating, watts=report.watts):
            self._tell(now, Noticed(text, build, about="power"))

    def _fails(self, why: str) -> None:
        self.power = Power(trouble=why[:300])
        self._controller.machine.switched_off = False
        now_s = self._clock.monotonic_s()
        self._silent_since_s = self._silent_since_s or now_s
        if now_s - self._silent_since_s >= TOLD_AFTER_S and not self._told:
            self._told = True
            self._tell(self._clock.now(), Noticed(f"its plug says nothing: {why}", None, True, "power"))

    def _tell(self, at: datetime, event: ControlEvent) -> None:
        self._driver.context.tell(self._driver.config.machine, at, event)

    # Turning -------------------------------------------------------------------------------------------------

    async def turn(self, on: bool, *, force: bool) -> str:
        """Turn it, and wait until it says so. Returns why it was not done; empty when it was. Raises WrongState when
        the machine must not be turned off."""
        if not on and not force:
            self._check_off()
            await self._run_fan_on()
            self._check_off()
        self._driver.power_going = not on
        try:
            async with self._asking:
                await self._plug.turn(on)
            return await self._seen(on)
        except PlugFault as error:
            return str(error)
        finally:
            self._driver.power_going = False

    async def _seen(self, on: bool) -> str:
        deadline_s = self._clock.monotonic_s() + TURNED_WITHIN_S
        while True:
            if (await self._read()).on is on:
                return ""
            if self._clock.monotonic_s() > deadline_s:
                return f"it was told to turn {'on' if on else 'off'}, and says that it has not"
            await asyncio.sleep(0.1)

    def _check_off(self) -> None:
        machine = self._controller.machine
        measured = [c for c in (machine.heat.nozzle_c, machine.heat.bed_c) if c is not None]
        why = why_not_off(machine.state, max(measured, default=None), self.rules)
        if why:
            raise WrongState(f"It is not turned off: {why}.")

    async def _run_fan_on(self) -> None:
        """Let the part fan blow first, if the machine can be told to."""
        seconds, controller = self.rules.run_on_s, self._controller
        if not seconds or controller.machine.offline or not controller.ready:
            return
        try:
            controller.act(Adjust(fan_pct=100), self._driver.now())
            self._driver.flush()
            await asyncio.sleep(seconds / self._clock.rate)
            controller.act(Adjust(fan_pct=0), self._driver.now())
            self._driver.flush()
        except (WrongState, NotPossible) as error:
            log.info("the fan of %s was not run on: %s", self._driver.config.machine, error)
