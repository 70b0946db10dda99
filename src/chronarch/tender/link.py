"""One machine's connection: moves bytes between its socket and its steward, and its happenings to the tender."""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections.abc import Callable
from datetime import datetime
from urllib.parse import urlsplit

from chronarch.core.clock import Clock
from chronarch.core.happenings import Happening
from chronarch.core.states import BuildState, MachineState, WrongState
from chronarch.core.steward import Errand, Moment, Phase, Steward
from chronarch.tender.store import Store
from chronarch.wire.machines import BuildBrief, Heater, Reading
from chronarch.wire.upstream import BuildOrder, Charge, Command, Sample

TICK_S = 0.05
RETRY_S = (0.2, 0.5, 1.0, 2.0)
ANSWER_TIMEOUT_S = 2.0
BUSY_WAIT_S = 10.0
log = logging.getLogger("chronarch.link")


def _under(charge: Charge) -> MachineState:
    """The state that lies under `offline`, as far as the service can tell."""
    if charge.state is not MachineState.OFFLINE:
        return charge.state
    return MachineState.UNCLEARED if charge.order is not None and charge.order.ended else MachineState.IDLE


class MachineLink:
    """Minds one machine until cancelled. `tell` takes what happened, at which shop time."""

    def __init__(
        self, charge: Charge, clock: Clock, store: Store, tell: Callable[[str, datetime, Happening], None]
    ) -> None:
        self.charge = charge
        self._clock = clock
        self._store = store
        self._tell = tell
        report_every_s = max(1, round(0.2 * clock.rate))
        self.steward = Steward(
            charge.model.core(), _under(charge), report_every_s=report_every_s, answer_timeout_s=ANSWER_TIMEOUT_S
        )
        self.steward.offline = charge.state is MachineState.OFFLINE
        self.steward.reason = charge.reason
        self._order: BuildOrder | None = None
        self._writer: asyncio.StreamWriter | None = None
        self._changed = asyncio.Event()
        self._started_at: datetime | None = None
        self._ended_at: datetime | None = None
        self._fetching: asyncio.Task[None] | None = None
        self._known_builds: set[int] = set()

    def _now(self) -> Moment:
        return Moment(self._clock.monotonic_s(), self._clock.now())

    # The wire ------------------------------------------------------------------------------------------------

    async def run(self) -> None:
        """Keep a connection and the clock going."""
        async with asyncio.TaskGroup() as tasks:
            tasks.create_task(self._connect_forever())
            tasks.create_task(self._tick_forever())

    async def _connect_forever(self) -> None:
        url = urlsplit(self.charge.link)
        tries = 0
        while True:
            try:
                reader, writer = await asyncio.wait_for(asyncio.open_connection(url.hostname, url.port), 5)
            except (OSError, TimeoutError):
                self.steward.disconnected(self._now())
                await asyncio.sleep(RETRY_S[min(tries, len(RETRY_S) - 1)])
                tries += 1
                continue
            self._writer = writer
            self.steward.connected(self._now())
            self._flush()
            try:
                while data := await reader.read(65536):
                    tries = 0
                    self.steward.receive(data, self._now())
                    self._flush()
            except OSError:
                pass
            except Exception:
                log.exception("the link of %s stumbled and connects anew", self.charge.machine)
            finally:
                self._writer = None
                writer.transport.abort()
                self.steward.disconnected(self._now())
            await asyncio.sleep(RETRY_S[min(tries, len(RETRY_S) - 1)])
            tries += 1

    async def _tick_forever(self) -> None:
        while True:
            await asyncio.sleep(TICK_S)
            self.steward.tick(self._now())
            self._flush()
            if self.steward.wants_reconnect:
                self.steward.wants_reconnect = False
                if self._writer is not None:
                    self._writer.transport.abort()

    def _flush(self) -> None:
        """Write what is to be written, and tell what has happened."""
        if self._writer is not None:
            data = self.steward.outgoing()
            if data:
                self._writer.write(data)
        happened = self.steward.happened()
        for at, happening in happened:
            if happening.kind == "began":
                self._started_at, self._ended_at = at, None
            elif happening.kind == "ended":
                self._ended_at = at
            self._tell(self.charge.machine, at, happening)
        if happened:
            self._changed.set()

    # What the service wants ----------------------------------------------------------------------------------

    def assign(self, charge: Charge, *, first: bool = False) -> None:
        """Bring what this tender does into line with what the service knows. `first`: this tender was just started, so
        a build that had begun is one that nobody minds."""
        order = charge.order
        steward = self.steward
        if order is None:
            if steward.state is MachineState.UNCLEARED:
                steward.clear(self._now())
                self._flush()
            return
        if order.build == steward.build or order.build in self._known_builds:
            return
        self._known_builds.add(order.build)
        self._order = order
        if order.ended:
            steward.uncleared(order.build, order.plan.core())
        elif order.begun:
            if first:
                steward.lost(order.build, order.plan.core(), self._now())
                self._flush()
        else:
            self._fetching = asyncio.create_task(self._start(order))

    async def _start(self, order: BuildOrder) -> None:
        """Fetch the file and begin; tried until it works or the machine is no longer free for it."""
        wait_s = 1.0
        while True:
            try:
                program = await self._store.program(order.sha256)
                await self._until(lambda: self.steward.ready)
                self.steward.begin(Errand(order.build, order.plan.core(), program, order.pace), self._now())
                self._flush()
                return
            except WrongState as error:
                log.warning("build %d cannot start on %s: %s", order.build, self.charge.machine, error)
            except Exception as error:
                log.warning("the file of build %d cannot be had: %s", order.build, error)
            await asyncio.sleep(wait_s)
            wait_s = min(wait_s * 2, 10)

    async def carry_out(self, command: Command) -> str:
        """Do what a person wants; returns the problem, or an empty text once it took effect at the machine."""
        steward, now = self.steward, self._now()
        if command.build is not None and steward.build != command.build:
            starting = self._order is not None and self._order.build == command.build
            return "this build is still being fetched" if starting else "the machine does not have this build"
        if steward.offline and command.deed in ("pause", "resume", "stop", "emergency"):
            return "there is no link to the machine"
        try:
            match command.deed:
                case "pause":
                    steward.pause(command.reason, now)
                    done = lambda: steward.state is MachineState.PAUSED  # noqa: E731
                case "resume":
                    await self._until(lambda: steward.phase is not Phase.PARKING)
                    steward.resume(self._now())
                    done = lambda: steward.state is not MachineState.PAUSED  # noqa: E731
                case "stop":
                    steward.stop(command.reason, now)
                    done = lambda: steward.phase in (Phase.ENDING, Phase.RESTING)  # noqa: E731
                case "emergency":
                    steward.emergency(now)
                    done = lambda: True  # noqa: E731
                case "clear":
                    steward.clear(now)
                    done = lambda: True  # noqa: E731
                case "take_out":
                    steward.take_out(command.reason, now)
                    done = lambda: True  # noqa: E731
                case "put_back":
                    steward.put_back(now)
                    done = lambda: True  # noqa: E731
        except WrongState as error:
            return str(error)
        self._flush()
        return "" if await self._until(done) else "it was asked, but the machine has not done it yet"

    async def _until(self, done: Callable[[], bool]) -> bool:
        """Wait for something to be so at the machine, within bounds."""
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(BUSY_WAIT_S):
                while not done():
                    self._changed.clear()
                    with contextlib.suppress(TimeoutError):
                        await asyncio.wait_for(self._changed.wait(), TICK_S)
        return done()

    # What the service sees -----------------------------------------------------------------------------------

    def sample(self) -> Sample:
        """How the machine is right now."""
        steward, heat = self.steward, self.steward.heat
        return Sample(
            machine=self.charge.machine,
            state=steward.shown_state,
            connected=self._writer is not None,
            reading=Reading(
                at=self._clock.now(),
                nozzle=Heater(measured_c=heat.nozzle_c, asked_c=heat.nozzle_asked_c),
                bed=Heater(measured_c=heat.bed_c, asked_c=heat.bed_asked_c),
            )
            if heat.nozzle_c is not None or heat.bed_c is not None
            else None,
            build=self._brief(),
            resends=steward.link.resends,
        )

    def _brief(self) -> BuildBrief | None:
        progress, order, now = self.steward.progress, self._order, self._clock.now()
        if progress is None or order is None or self.steward.build != order.build:
            return None
        running = self._ended_at is None
        began = self._started_at
        return BuildBrief(
            id=order.build,
            file=order.file,
            job=order.job,
            copy_number=order.copy_number,
            state=BuildState.BUILDING if running else BuildState.ENDED,
            reason=self.steward.reason,
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
