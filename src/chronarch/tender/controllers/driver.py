"""A driver minds one machine: it brings what the service wants to the machine's controller, shows how the machine is,
and keeps what must be found again.

`StreamingDriver` feeds a machine line by line; `StoredFileDriver` hands the whole file to a machine that runs it
itself.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import math
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from chronarch.core.clock import Clock
from chronarch.core.control.action_wording import adjustment
from chronarch.core.control.checkpoint import BuildCheckpoint
from chronarch.core.control.controlled_machine import BuildSpec, Instant
from chronarch.core.control.controller import MachineController
from chronarch.core.control.events import BuildEnded, BuildOnBed, ControlEvent, MachineStands, Noticed
from chronarch.core.control.film_poses import SHUTTER_S
from chronarch.core.machines.address import parse_address
from chronarch.core.machines.materials import USUAL_MATERIALS, Materials
from chronarch.core.machines.states import WORKING, BuildState, MachineState, WrongState
from chronarch.tender.checkpoints import CheckpointStore, MachineCheckpoint
from chronarch.tender.controllers.line_log import LineLog
from chronarch.tender.file_store import FileStore
from chronarch.tender.tasks import together
from chronarch.tender.transports.device_lock import DeviceInUse, hold
from chronarch.wire.common import fill
from chronarch.wire.control.upstream import MachineConfig, OpenBuild, Sample
from chronarch.wire.gcode import WirePlan
from chronarch.wire.machines import machine as wh
from chronarch.wire.machines.machine import BuildBrief, HeaterReading, Reading
from chronarch.wire.machines.power import Power

TICK_S = 0.05
SAME_MOMENT_S = 0.002
RETRY_S = (0.2, 0.5, 1.0, 2.0)
BUSY_WAIT_S = 10.0
KEEP_EVERY_S = 3.0
log = logging.getLogger("chronarch.link")


@dataclass(frozen=True)
class DriverContext:
    """What all drivers of a tender share. `tell` takes what happened, at which machine and shop time. `log_ready` is
    called when the log of a build is complete."""

    tender: str
    clock: Clock
    store: FileStore
    keeping: CheckpointStore
    tell: Callable[[str, datetime, ControlEvent], None]
    log_ready: Callable[[str, int], None] = lambda machine, build: None


def _heater(measured_c: float | None, asked_c: float | None) -> HeaterReading:
    """A heater as people see it: a sensor that gives no number gives nothing."""
    says = measured_c is not None and math.isfinite(measured_c)
    return HeaterReading(measured_c=measured_c if says else None, asked_c=asked_c)


def _under(config: MachineConfig) -> MachineState:
    """The state that a machine had before it went `offline`, as far as the service can tell."""
    if config.state is not MachineState.OFFLINE:
        return config.state
    return MachineState.UNCLEARED if config.order is not None and config.order.ended else MachineState.IDLE


class PlugTurner(Protocol):
    """The plug that a machine hangs on."""

    power: Power

    async def turn(self, on: bool, *, force: bool) -> str:
        """Turn it. Returns why it was not done; empty when it was. Raises WrongState when it must not be."""


class MachineDriver(ABC):
    """Minds one machine until cancelled. `standing` is what an earlier tender kept of it."""

    def __init__(
        self,
        config: MachineConfig,
        context: DriverContext,
        controller: MachineController,
        standing: MachineCheckpoint | None = None,
    ) -> None:
        self.config = config
        self.context = context
        self.controller = controller
        self.address = parse_address(config.link)
        self.connected = False
        self._moment = Instant(context.clock.monotonic_s(), context.clock.now())
        self.line_log = LineLog(context.keeping.folder(config.machine) / "log")
        self.speed = standing.speed if standing else None
        self._order: OpenBuild | None = None
        self._changed = asyncio.Event()
        self._started_at: datetime | None = None
        self._ended_at: datetime | None = None
        self._ended: BuildEnded | None = None
        self._known_builds: set[int] = set()
        self._fetching: int | None = None
        """The build that begins as soon as its file is here and the machine is free."""
        self._disk_full = False
        self._kept_at_s = 0.0
        self._told_of_holder = ""
        self.power_going = False
        """Whether its plug is being turned off, so that nothing may begin."""
        self.plug: PlugTurner | None = None
        self._settled = asyncio.Event()
        """Set once it is known what is on the machine; nothing is sent to the machine before."""
        self._work: set[asyncio.Task[None]] = set()
        controller.machine.state = standing.state if standing else _under(config)
        controller.machine.offline = config.state is MachineState.OFFLINE
        controller.machine.reason = standing.reason if standing else config.reason
        self._take_materials(config)
        self._find(config, standing)

    def now(self) -> Instant:
        """The present time. One value serves for a few milliseconds, because it is asked for with every line."""
        real_s = self.context.clock.monotonic_s()
        if real_s - self._moment.real_s > SAME_MOMENT_S:
            self._moment = Instant(real_s, self.context.clock.now())
        return self._moment

    def _spawn(self, work: asyncio.Task[None]) -> None:
        self._work.add(work)
        work.add_done_callback(self._work.discard)

    # For each kind of driver ---------------------------------------------------------------------------------------

    trouble: tuple[type[Exception], ...] = (OSError, TimeoutError)
    """What ends a connection without anything being wrong with the tender."""

    @abstractmethod
    async def _talk(self) -> None:
        """One connection, from its opening to its end. Raises what `trouble` names."""

    @abstractmethod
    def send(self) -> None:
        """Write what the controller wants to send."""

    def hands(self) -> wh.MachineControls:
        """What can be done at the machine by hand, and which changes are on their way."""
        controller, machine = self.controller, self.controller.machine
        return wh.MachineControls(
            moment=controller.activity.name.lower(), settings=machine.settings, position_mm=machine.position_mm,
            head_mm=machine.head_mm,
            suspect=controller.suspect, watchdog=machine.watchdog, contact=machine.contact, change=machine.change,
            asked=[adjustment(action) for action in controller.asked],
            pauses_before=sorted(controller.pauses_before),
        )  # fmt: skip

    # The connection ------------------------------------------------------------------------------------------------

    async def run(self) -> None:
        """Keep the connection and the clock going."""
        await together(self._connect_forever(), self._tick_forever(), self._write_forever())

    async def _connect_forever(self) -> None:
        await self._settled.wait()
        tries = 0
        while True:
            try:
                with hold(self.address, f"{self.config.machine} of {self.context.tender}"):
                    await self._talk()
            except DeviceInUse as error:
                if self._told_of_holder != str(error):
                    self._told_of_holder = str(error)
                    self._notice(str(error))
            except self.trouble as error:
                log.debug("%s: %s", self.config.machine, error)
            except Exception:
                log.exception("the link of %s stumbled and connects anew", self.config.machine)
            tries = 0 if self.connected else tries
            self.connected = False
            self.controller.disconnected(self.now())
            self.flush()
            await asyncio.sleep(RETRY_S[min(tries, len(RETRY_S) - 1)])
            tries += 1

    async def _tick_forever(self) -> None:
        while True:
            await asyncio.sleep(TICK_S)
            self.controller.tick(self.now())
            self.flush()

    def _notice(self, text: str) -> None:
        at = self.context.clock.now()
        self.context.tell(self.config.machine, at, Noticed(text, self.controller.machine.build))

    # What is kept --------------------------------------------------------------------------------------------

    def flush(self) -> None:
        """Tell what has happened and write what must be kept to the disk; only then send what is to be sent."""
        events = self.controller.machine.take_events()
        for at, what in events:
            self._note(at, what)
            self.context.tell(self.config.machine, at, what)
        if self.controller.changed():
            self._keep()
        self.send()
        if events:
            self._changed.set()

    def _note(self, at: datetime, what: ControlEvent) -> None:
        if what.kind == "began":
            self._started_at, self._ended_at, self._ended = at, None, None
            self.line_log.begin(what.build)
        elif what.kind == "ended":
            self._ended_at, self._ended = at, what
            self._spawn(asyncio.create_task(self._close_log()))

    async def _close_log(self) -> None:
        build = await asyncio.to_thread(self.line_log.end)
        if build is not None:
            self.context.log_ready(self.config.machine, build)

    def _standing(self) -> MachineCheckpoint:
        machine, kept = self.controller.machine, self.controller.kept()
        return MachineCheckpoint(
            machine.state, machine.reason, machine.build, self._started_at, self._ended_at, self.speed, kept,
            self._ended,
        )  # fmt: skip

    def _keep(self) -> None:
        try:
            self.context.keeping.standing(self.config.machine, self._standing())
            self._disk_full = False
        except OSError as error:
            if not self._disk_full:
                self._disk_full = True
                text = f"the tender cannot write to its disk ({error.strerror}); started anew now, it would have to ask"
                self._notice(text)

    async def _write_forever(self) -> None:
        """Now and then, beside the feeding, write the log and the place in the file."""
        while True:
            await asyncio.sleep(1.0)
            await asyncio.to_thread(self.line_log.write)
            if (
                self.controller.kept() is not None
                and self.context.clock.monotonic_s() - self._kept_at_s >= KEEP_EVERY_S
            ):
                self._kept_at_s = self.context.clock.monotonic_s()
                self._keep()

    # What the service wants ----------------------------------------------------------------------------------

    def _find(self, config: MachineConfig, standing: MachineCheckpoint | None) -> None:
        """Find out what is on the machine when this tender starts."""
        order, kept = config.order, standing.kept if standing else None
        if order is None:
            self._settled.set()
            return
        if standing is not None and standing.build == order.build:
            self._started_at, self._ended_at = standing.started_at, standing.ended_at
            self._ended = standing.ended
        under_way = (kept is not None and kept.build == order.build) or (order.begun and not order.ended)
        over = order.ended or (kept is None and self._ended_at is not None)
        if over:
            self._order = order
            self._known_builds.add(order.build)
            self.controller.uncleared(order.build, order.plan.core())
            self._settled.set()
        elif under_way:
            self._order = order
            self._known_builds.add(order.build)
            self._started_at = self._started_at or order.started_at
            if kept is None or kept.build != order.build:
                state = (
                    self.controller.machine.state if self.controller.machine.state in WORKING else MachineState.WARMING
                )
                kept = BuildCheckpoint(order.build, "feeding", state, order.sha256, at=-1)
            self._spawn(asyncio.create_task(self._take_up(order, kept)))
        else:
            self._settled.set()

    async def _take_up(self, build: OpenBuild, kept: BuildCheckpoint) -> None:
        spec = await self._spec(build)
        self.line_log.begin(build.build)
        self.controller.adopt(spec, kept, self.now())
        self._settled.set()

    async def _spec(self, build: OpenBuild) -> BuildSpec:
        """The build with its file; tries until the file can be had."""
        wait_s = 1.0
        while True:
            try:
                program = await self.context.store.program(build.sha256)
                shutter_s = SHUTTER_S * self.context.clock.rate
                return BuildSpec(
                    build.build, build.plan.core(), program, build.pace, build.sha256, build.film, shutter_s
                )
            except Exception as error:
                log.warning("the file of build %d cannot be had: %s", build.build, error)
            await asyncio.sleep(wait_s)
            wait_s = min(wait_s * 2, 10)

    @property
    def at_rest(self) -> bool:
        """Whether no build is on it, nor is to begin."""
        return self.config.order is None and self.controller.machine.build is None

    def _take_materials(self, config: MachineConfig) -> None:
        self.controller.materials = Materials(USUAL_MATERIALS.values(), config.materials)

    def assign(self, config: MachineConfig) -> None:
        """Make what this tender does agree with what the service knows."""
        mine, order = self.config.order, config.order
        if mine is not None and order is not None and mine.build == order.build:
            # an edited file that replaced the first one under way is known here first
            config = config.model_copy(update={"order": mine})
        strange = config.strange_build is not None and config.strange_build == self.controller.machine.build
        if strange:
            config = config.model_copy(update={"order": mine})  # it goes on, though the service knows nothing of it
        if config.model != self.config.model:
            self.controller.take_model(config.model)
        self.config = config
        self._take_materials(config)
        self._keep_config()
        if order is None:
            if not strange and self.controller.machine.state is MachineState.UNCLEARED:
                self.controller.clear(self.now())
                self.flush()
            return
        if order.build == self.controller.machine.build or order.build in self._known_builds:
            return
        self._known_builds.add(order.build)
        self._order = order
        if order.ended:
            self.controller.uncleared(order.build, order.plan.core())
        else:
            self._spawn(asyncio.create_task(self._start(order)))

    def _keep_config(self) -> None:
        try:
            self.context.keeping.config(self.config)
        except OSError as error:
            log.warning("the set-up of %s cannot be kept: %s", self.config.machine, error)

    async def _start(self, build: OpenBuild) -> None:
        """Fetch the file and begin; tries until the machine is free for it."""
        self._fetching = build.build
        spec = await self._spec(build)
        wait_s = 0.2
        while True:
            await self.until(lambda: self.controller.ready and not self.power_going)
            if self.power_going:
                continue
            try:
                self.controller.begin(spec, self.now())
                self._fetching = None
                self.flush()
                return
            except WrongState as error:
                log.warning("build %d cannot start on %s: %s", build.build, self.config.machine, error)
            await asyncio.sleep(wait_s)
            wait_s = min(wait_s * 2, 10)

    def replace_file(self, sha256: str, plan: WirePlan) -> None:
        """The build under way continues with another file."""
        assert self._order is not None
        self._order = self._order.model_copy(update={"sha256": sha256, "plan": plan})
        self.config = self.config.model_copy(update={"order": self._order})
        self._keep_config()

    def is_fetching(self, build: int) -> bool:
        """Whether a build is this machine's and has not begun."""
        return self._order is not None and self._order.build == build

    async def until(self, done: Callable[[], bool], within_s: float = BUSY_WAIT_S) -> bool:
        """Wait for something to become true at the machine, for a bounded time."""
        deadline_s = asyncio.get_running_loop().time() + within_s
        while not done() and asyncio.get_running_loop().time() < deadline_s:
            self._changed.clear()
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(TICK_S):
                    await self._changed.wait()
        return done()

    # What the service sees -----------------------------------------------------------------------------------

    def sample(self) -> Sample:
        """How the machine is right now."""
        controller, heat = self.controller, self.controller.machine.heat
        known = heat.nozzle_c is not None or heat.bed_c is not None
        return Sample(
            machine=self.config.machine,
            state=controller.machine.shown_state,
            connected=self.connected,
            reading=Reading(
                at=self.context.clock.now(),
                nozzle=_heater(heat.nozzle_c, heat.nozzle_asked_c),
                bed=_heater(heat.bed_c, heat.bed_asked_c),
                chamber=_heater(heat.chamber_c, heat.chamber_asked_c),
                further={name: _heater(measured_c, asked_c) for name, measured_c, asked_c in heat.further},
                fan_pct=controller.fan_pct,
            )
            if known
            else None,
            build=self._brief(),
            resends=self.resends,
            hands=self.hands(),
            power=self.plug.power if self.plug else None,
        )

    def stands(self, number: int) -> MachineStands:
        """The answer to a roll call."""
        machine, order, bed = self.controller.machine, self._order, None
        if order is not None and machine.build == order.build:
            paused = machine.reason if machine.state is MachineState.PAUSED else None
            bed = BuildOnBed(order.build, self._started_at, paused, self._ended, self._ended_at)
        elif self._fetching is not None:
            bed = BuildOnBed(self._fetching)
        return MachineStands(number, machine.shown_state, machine.reason, bed)

    @property
    def resends(self) -> int:
        return 0

    def _brief(self) -> BuildBrief | None:
        progress, order, now = self.controller.machine.progress, self._order, self.context.clock.now()
        if progress is None or order is None or self.controller.machine.build != order.build:
            return None
        running = self._ended_at is None
        began = self._started_at
        return fill(
            BuildBrief, order, progress, id=order.build, started_at=began, reason=self.controller.machine.reason,
            state=BuildState.BUILDING if running else BuildState.ENDED, progress=progress.share,
            layer=progress.plan.layer_at(progress.acknowledged), layers=len(progress.plan.layers),
            commands=progress.plan.commands,
            elapsed_s=((self._ended_at or now) - began).total_seconds() if began else 0.0,
            remaining_s=progress.remaining_s if running else None,
            expected_end=progress.expected_end(now) if running else None, pace=progress.pace,
            words=self.controller.machine.words if running else "",
        )  # fmt: skip
