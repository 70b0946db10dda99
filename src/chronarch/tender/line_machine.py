"""The link of a machine that is fed line by line: moves bytes between its wire and its steward."""

from __future__ import annotations

import asyncio
import dataclasses
import logging
import secrets

from chronarch.core.framing import FENCES
from chronarch.core.happenings import Noticed
from chronarch.core.kept import Kept
from chronarch.core.mind import Errand
from chronarch.core.steward import Steward
from chronarch.core.wording import adjustment
from chronarch.tender.keeping import Standing
from chronarch.tender.lines import Held, Line, find_speed, hold, open_line
from chronarch.tender.link import RETRY_S, TICK_S, MachineLink, Surroundings
from chronarch.tender.tasks import together
from chronarch.wire import hands as wh
from chronarch.wire.upstream import Charge

ANSWER_TIMEOUT_S = 2.0
log = logging.getLogger("chronarch.link")


class LineMachine(MachineLink):
    """Minds one machine on a line link."""

    def __init__(self, charge: Charge, around: Surroundings, standing: Standing | None = None) -> None:
        self.steward = Steward(
            charge.model.core(),
            report_every_s=max(1, round(0.2 * around.clock.rate)),
            answer_timeout_s=ANSWER_TIMEOUT_S,
            fences_from=secrets.randbelow(FENCES),
        )
        self._line: Line | None = None
        self._gone = asyncio.Event()
        super().__init__(charge, around, self.steward, standing)

    async def run(self) -> None:
        await together(self._connect_forever(), self._tick_forever(), self._write_forever())

    async def _connect_forever(self) -> None:
        await self._settled.wait()
        tries = 0
        while True:
            try:
                with hold(self.address, f"{self.charge.machine} of {self.around.tender}"):
                    await self._talk()
                    tries = 0
            except Held as error:
                if self._told_of_holder != str(error):
                    self._told_of_holder = str(error)
                    self.around.tell(self.charge.machine, self.around.clock.now(), Noticed(str(error), self.mind.build))
            except (OSError, TimeoutError) as error:
                log.debug("%s: %s", self.charge.machine, error)
            except Exception:
                log.exception("the link of %s stumbled and connects anew", self.charge.machine)
            self.steward.disconnected(self._now())
            self.flush()
            await asyncio.sleep(RETRY_S[min(tries, len(RETRY_S) - 1)])
            tries += 1

    async def _talk(self) -> None:
        """One connection, from its opening to its end."""
        address = self.address
        if address.kind in ("serial", "rfc2217") and address.speed is None:
            if self.speed is None:
                self.speed = await asyncio.to_thread(find_speed, address)
            if self.speed is None:
                raise OSError(f"{address.shown} does not answer at any speed")
            address = dataclasses.replace(address, speed=self.speed)
        self._gone.clear()
        self._line = await open_line(address, self._heard, self._gone.set)
        try:
            self.connected = True
            self.steward.connected(self._now())
            self.flush()
            await self._gone.wait()
        finally:
            self.connected = False
            line, self._line = self._line, None
            line.close()

    def _heard(self, data: bytes) -> None:
        steward = self.steward
        try:
            steward.receive(data, self._now())
            if steward.silent:
                self.send()
            else:
                self.flush()
        except Exception:
            log.exception("the link of %s stumbled and connects anew", self.charge.machine)
            self._gone.set()

    async def _tick_forever(self) -> None:
        while True:
            await asyncio.sleep(TICK_S)
            self.steward.tick(self._now())
            self.flush()
            if self.steward.wants_reconnect:
                self.steward.wants_reconnect = False
                self._gone.set()

    def send(self) -> None:
        link = self.steward.link
        if self._line is not None:
            data = link.outgoing()
            if data:
                self._line.write(data)
        spoken = link.spoken()
        if spoken:
            self.line_log.add(self._moment.shop, spoken)

    def kept(self) -> Kept | None:
        return self.steward.kept()

    def must_keep(self) -> bool:
        return self.steward.changed()

    def adopt(self, errand: Errand, kept: Kept) -> None:
        self.steward.adopt(errand, kept, self._now())

    @property
    def resends(self) -> int:
        return self.steward.link.resends

    def hands(self) -> wh.Hands:
        steward = self.steward
        more = {
            "asked": [adjustment(action) for action in steward.asked],
            "change": steward.change,
            "pauses_before": sorted(steward.pauses_before),
            "nozzle_rests": steward.nozzle_rests,
            "waits": steward.waits,
            "question": steward.question,
            "choices": list(steward.choices),
        }
        return super().hands().model_copy(update=more)
