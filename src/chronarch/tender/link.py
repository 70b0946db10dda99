"""One machine in a tender's charge: what the service wants of it, what it shows of itself, and what is kept of it.

`line_machine.LineMachine` feeds a machine line by line; `stored_machine.StoredMachine` hands the whole file to one that
runs it itself.
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

from chronarch.core.address import parse_address
from chronarch.core.clock import Clock
from chronarch.core.hands import NotPossible
from chronarch.core.happenings import Happening, Noticed
from chronarch.core.kept import Kept
from chronarch.core.mind import Errand, Mind, Moment
from chronarch.core.states import WORKING, BuildState, MachineState, TooLate, WrongState
from chronarch.core.wording import adjustment
from chronarch.tender.keeping import Keeping, Standing
from chronarch.tender.line_log import LineLog
from chronarch.tender.store import Store
from chronarch.wire import hands as wh
from chronarch.wire.machines import BuildBrief, Heater, Reading
from chronarch.wire.upstream import BuildOrder, Charge, Command, LogWish, Reply, Sample

TICK_S = 0.05
SAME_MOMENT_S = 0.002
RETRY_S = (0.2, 0.5, 1.0, 2.0)
BUSY_WAIT_S = 10.0
HANDS_WAIT_S = 300.0
KEEP_EVERY_S = 3.0
log = logging.getLogger("chronarch.link")


@dataclass(frozen=True)
class Surroundings:
    """What every link of a tender shares. `tell` takes what happened at which machine and shop time; `log_ready` hears
    of a build's log that is complete."""

    tender: str
    clock: Clock
    store: Store
    keeping: Keeping
    tell: Callable[[str, datetime, Happening], None]
    log_ready: Callable[[str, int], None] = lambda machine, build: None


def _heater(measured_c: float | None, asked_c: float | None) -> Heater:
    """As people see it: a sensor that says no number says nothing."""
    says = measured_c is not None and math.isfinite(measured_c)
    return Heater(measured_c=measured_c if says else None, asked_c=asked_c)


def _under(charge: Charge) -> MachineState:
    """The state that lies under `offline`, as far as the service can tell."""
    if charge.state is not MachineState.OFFLINE:
        return charge.state
    return MachineState.UNCLEARED if charge.order is not None and charge.order.ended else MachineState.IDLE


class MachineLink(ABC):
    """Minds one machine until cancelled; `standing` is what an earlier tender kept of it."""

    def __init__(self, charge: Charge, around: Surroundings, mind: Mind, standing: Standing | None = None) -> None:
        self.charge = charge
        self.around = around
        self.mind = mind
        self.address = parse_address(charge.link)
        self.connected = False
        self._moment = Moment(around.clock.monotonic_s(), around.clock.now())
        self.line_log = LineLog(around.keeping.folder(charge.machine) / "log")
        self.speed = standing.speed if standing else None
        self._order: BuildOrder | None = None
        self._changed = asyncio.Event()
        self._started_at: datetime | None = None
        self._ended_at: datetime | None = None
        self._known_builds: set[int] = set()
        self._disk_full = False
        self._kept_at_s = 0.0
        self._told_of_holder = ""
        self._settled = asyncio.Event()
        """Set once it is known what lies on the machine: only then is it talked to."""
        self._work: set[asyncio.Task[None]] = set()
        mind.state = standing.state if standing else _under(charge)
        mind.offline = charge.state is MachineState.OFFLINE
        mind.reason = standing.reason if standing else charge.reason
        self._find(charge, standing)

    def _now(self) -> Moment:
        """The moment; one serves for a few thousandths of a second, since it is asked for with every line."""
        real_s = self.around.clock.monotonic_s()
        if real_s - self._moment.real_s > SAME_MOMENT_S:
            self._moment = Moment(real_s, self.around.clock.now())
        return self._moment

    def _spawn(self, work: asyncio.Task[None]) -> None:
        self._work.add(work)
        work.add_done_callback(self._work.discard)

    # For the kinds of link -----------------------------------------------------------------------------------

    @abstractmethod
    async def run(self) -> None:
        """Keep a connection and the clock going."""

    @abstractmethod
    def adopt(self, errand: Errand, kept: Kept) -> None:
        """Go on with a build that an earlier tender had under way."""

    @abstractmethod
    def send(self) -> None:
        """Hand what the mind wants said to the wire."""

    @abstractmethod
    def kept(self) -> Kept | None:
        """What must be found again of the build under way."""

    @abstractmethod
    def must_keep(self) -> bool:
        """Whether that has changed in more than how far the build is."""

    def hands(self) -> wh.Hands:
        mind = self.mind
        return wh.Hands(
            moment=mind.moment.name.lower(),
            settings=wh.Settings(**vars(mind.settings)),
            position_mm=mind.position_mm,
            suspect=mind.suspect,
            watchdog=mind.watchdog,
            contact=wh.Contact(**vars(mind.contact)),
        )

    # What is kept --------------------------------------------------------------------------------------------

    def flush(self) -> None:
        """Tell what has happened and keep what must be kept, on the disk, and only then let the wire have what is to be
        written."""
        happened = self.mind.happened()
        for at, what in happened:
            self._note(at, what)
            self.around.tell(self.charge.machine, at, what)
        if self.must_keep():
            self._keep()
        self.send()
        if happened:
            self._changed.set()

    def _note(self, at: datetime, what: Happening) -> None:
        if what.kind == "began":
            self._started_at, self._ended_at = at, None
            self.line_log.begin(what.build)
        elif what.kind == "ended":
            self._ended_at = at
            self._spawn(asyncio.create_task(self._close_log()))

    async def _close_log(self) -> None:
        build = await asyncio.to_thread(self.line_log.end)
        if build is not None:
            self.around.log_ready(self.charge.machine, build)

    def _standing(self) -> Standing:
        mind = self.mind
        return Standing(mind.state, mind.reason, mind.build, self._started_at, self._ended_at, self.speed, self.kept())

    def _keep(self) -> None:
        try:
            self.around.keeping.standing(self.charge.machine, self._standing())
            self._disk_full = False
        except OSError as error:
            if not self._disk_full:
                self._disk_full = True
                text = f"the tender cannot write to its disk ({error.strerror}); started anew now, it would have to ask"
                self.around.tell(self.charge.machine, self.around.clock.now(), Noticed(text, self.mind.build))

    async def _write_forever(self) -> None:
        """Now and then, beside the feeding: the log, and how far the build is."""
        while True:
            await asyncio.sleep(1.0)
            await asyncio.to_thread(self.line_log.write)
            if self.kept() is not None and self.around.clock.monotonic_s() - self._kept_at_s >= KEEP_EVERY_S:
                self._kept_at_s = self.around.clock.monotonic_s()
                self._keep()

    # What the service wants ----------------------------------------------------------------------------------

    def _find(self, charge: Charge, standing: Standing | None) -> None:
        """What lies on the machine, as this tender starts."""
        order, kept = charge.order, standing.kept if standing else None
        if order is None:
            self._settled.set()
            return
        if standing is not None and standing.build == order.build:
            self._started_at, self._ended_at = standing.started_at, standing.ended_at
        under_way = (kept is not None and kept.build == order.build) or (order.begun and not order.ended)
        over = order.ended or (kept is None and self._ended_at is not None)
        if over:
            self._order = order
            self._known_builds.add(order.build)
            self.mind.uncleared(order.build, order.plan.core())
            self._settled.set()
        elif under_way:
            self._order = order
            self._known_builds.add(order.build)
            self._started_at = self._started_at or order.started_at
            if kept is None or kept.build != order.build:
                state = self.mind.state if self.mind.state in WORKING else MachineState.WARMING
                kept = Kept(order.build, "feeding", state, order.sha256, at=-1)
            self._spawn(asyncio.create_task(self._take_up(order, kept)))
        else:
            self._settled.set()

    async def _take_up(self, order: BuildOrder, kept: Kept) -> None:
        errand = await self._errand(order)
        self.line_log.begin(order.build)
        self.adopt(errand, kept)
        self._settled.set()

    async def _errand(self, order: BuildOrder) -> Errand:
        """The build with its file; tried until it can be had."""
        wait_s = 1.0
        while True:
            try:
                program = await self.around.store.program(order.sha256)
                return Errand(order.build, order.plan.core(), program, order.pace, order.sha256)
            except Exception as error:
                log.warning("the file of build %d cannot be had: %s", order.build, error)
            await asyncio.sleep(wait_s)
            wait_s = min(wait_s * 2, 10)

    def assign(self, charge: Charge) -> None:
        """Bring what this tender does into line with what the service knows."""
        mine, order = self.charge.order, charge.order
        if mine is not None and order is not None and mine.build == order.build:
            # an edited file that took over under way is known here first
            charge = charge.model_copy(update={"order": mine})
        if charge.model != self.charge.model:
            self.mind.take_model(charge.model.core())
        self.charge = charge
        self._keep_charge()
        if order is None:
            if self.mind.state is MachineState.UNCLEARED:
                self.mind.clear(self._now())
                self.flush()
            return
        if order.build == self.mind.build or order.build in self._known_builds:
            return
        self._known_builds.add(order.build)
        self._order = order
        if order.ended:
            self.mind.uncleared(order.build, order.plan.core())
        else:
            self._spawn(asyncio.create_task(self._start(order)))

    def _keep_charge(self) -> None:
        try:
            self.around.keeping.charge(self.charge)
        except OSError as error:
            log.warning("the charge of %s cannot be kept: %s", self.charge.machine, error)

    async def _start(self, order: BuildOrder) -> None:
        """Fetch the file and begin; tried until the machine is free for it."""
        errand = await self._errand(order)
        wait_s = 0.2
        while True:
            await self._until(lambda: self.mind.ready)
            try:
                self.mind.begin(errand, self._now())
                self.flush()
                return
            except WrongState as error:
                log.warning("build %d cannot start on %s: %s", order.build, self.charge.machine, error)
            await asyncio.sleep(wait_s)
            wait_s = min(wait_s * 2, 10)

    async def carry_out(self, command: Command) -> Reply:
        """Do what a person wants, and tell once it took effect at the machine, or why not."""
        mind = self.mind
        if command.deed == "log":
            wish = command.log or LogWish()
            return Reply(id=command.id, log=self.line_log.tail(wish.after, wish.limit, wish.search))
        if command.build is not None and mind.build != command.build:
            starting = self._order is not None and self._order.build == command.build
            text = "this build is still being fetched" if starting else "the machine does not have this build"
            return Reply(id=command.id, problem=text)
        if mind.offline and command.deed not in ("clear", "take_out", "put_back"):
            return Reply(id=command.id, problem="there is no link to the machine")
        try:
            problem, said = await self._do(command)
        except (WrongState, NotPossible) as error:
            return Reply(id=command.id, problem=str(error), late=isinstance(error, TooLate))
        return Reply(id=command.id, problem=problem, said=said)

    async def _do(self, command: Command) -> tuple[str, list[str]]:
        mind, now = self.mind, self._now()
        done: Callable[[], bool] = lambda: True  # noqa: E731
        match command.deed:
            case "emergency":
                mind.emergency(now)
                self.send()
            case "pause":
                mind.pause(command.reason, now)
                done = lambda: mind.state is MachineState.PAUSED  # noqa: E731
            case "resume":
                await self._until(lambda: mind.can_resume)
                mind.resume(self._now())
                done = lambda: mind.state is not MachineState.PAUSED  # noqa: E731
            case "stop":
                mind.stop(command.reason, now)
                done = lambda: mind.stopping  # noqa: E731
            case "pause_before":
                mind.pause_before(command.layer, now)
            case "no_pause_before":
                mind.no_pause_before(command.layer, now)
            case "change_filament":
                mind.change_filament(command.reason, now)
                done = lambda: mind.state is MachineState.PAUSED  # noqa: E731
            case "clear":
                mind.clear(now)
            case "take_out":
                mind.take_out(command.reason, now)
            case "put_back":
                mind.put_back(now)
            case "act":
                return await self._act(command)
            case "skip":
                await self._skip(command)
        self.flush()
        return "" if await self._until(done) else "it was asked, but the machine has not done it yet", []

    async def _act(self, command: Command) -> tuple[str, list[str]]:
        assert command.action is not None
        aside = self.mind.act(command.action, self._now(), command.by)
        self.flush()
        if not await self._until(lambda: aside.over, HANDS_WAIT_S):
            return f"it was asked ({adjustment(command.action)}), but the machine has not done it yet", []
        return aside.failed, aside.said

    async def _skip(self, command: Command) -> None:
        order, skip = self._order, command.skip
        assert order is not None and skip is not None
        program = await self.around.store.program(skip.sha256)
        self.mind.skip(program, skip.plan.core(), skip.sha256, skip.from_command, skip.text, command.by, self._now())
        self._order = order.model_copy(update={"sha256": skip.sha256, "plan": skip.plan})
        self.charge = self.charge.model_copy(update={"order": self._order})
        self._keep_charge()

    async def _until(self, done: Callable[[], bool], within_s: float = BUSY_WAIT_S) -> bool:
        """Wait for something to be so at the machine, within bounds."""
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
        mind, heat = self.mind, self.mind.heat
        known = heat.nozzle_c is not None or heat.bed_c is not None
        return Sample(
            machine=self.charge.machine,
            state=mind.shown_state,
            connected=self.connected,
            reading=Reading(
                at=self.around.clock.now(),
                nozzle=_heater(heat.nozzle_c, heat.nozzle_asked_c),
                bed=_heater(heat.bed_c, heat.bed_asked_c),
                chamber=_heater(heat.chamber_c, heat.chamber_asked_c),
            )
            if known
            else None,
            build=self._brief(),
            resends=self.resends,
            hands=self.hands(),
        )

    @property
    def resends(self) -> int:
        return 0

    def _brief(self) -> BuildBrief | None:
        progress, order, now = self.mind.progress, self._order, self.around.clock.now()
        if progress is None or order is None or self.mind.build != order.build:
            return None
        running = self._ended_at is None
        began = self._started_at
        return BuildBrief(
            id=order.build,
            file=order.file,
            job=order.job,
            copy_number=order.copy_number,
            state=BuildState.BUILDING if running else BuildState.ENDED,
            reason=self.mind.reason,
            started_at=began,
            progress=progress.share,
            layer=progress.plan.layer_at(progress.acknowledged),
            layers=len(progress.plan.layers),
            acknowledged=progress.acknowledged,
            commands=progress.plan.commands,
            elapsed_s=((self._ended_at or now) - began).total_seconds() if began else 0.0,
            remaining_s=progress.remaining_s if running else None,
            expected_end=progress.expected_end(now) if running else None,
            pace=progress.pace,
        )
