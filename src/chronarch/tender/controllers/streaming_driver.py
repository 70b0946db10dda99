"""Drives a machine that is fed line by line: moves bytes between its transport and its controller."""

from __future__ import annotations

import asyncio
import dataclasses
import logging
import secrets

from chronarch.core.control.framing import FENCES
from chronarch.core.control.streaming_controller import StreamingController
from chronarch.tender.checkpoints import MachineCheckpoint
from chronarch.tender.controllers.driver import DriverContext, MachineDriver
from chronarch.tender.transports.opening import WAYS
from chronarch.tender.transports.serial_port import find_speed
from chronarch.tender.transports.transport import Transport
from chronarch.wire.control.upstream import MachineConfig
from chronarch.wire.machines import machine as wh

ANSWER_TIMEOUT_S = 2.0
log = logging.getLogger("chronarch.link")


class StreamingDriver(MachineDriver):
    """Drives one machine that is fed line by line."""

    controller: StreamingController

    def __init__(
        self, config: MachineConfig, context: DriverContext, standing: MachineCheckpoint | None = None
    ) -> None:
        self.controller = StreamingController(
            config.model,
            report_every_s=max(1, round(0.2 * context.clock.rate)),
            answer_timeout_s=ANSWER_TIMEOUT_S,
            fences_from=secrets.randbelow(FENCES),
        )
        self._line: Transport | None = None
        self._gone = asyncio.Event()
        super().__init__(config, context, self.controller, standing)

    async def _talk(self) -> None:
        """One connection, from its opening to its end."""
        address, way = self.address, WAYS[self.address.kind]
        if way.has_speed and address.speed is None:
            if self.speed is None:
                self.speed = await asyncio.to_thread(find_speed, address)
            if self.speed is None:
                raise OSError(f"{address.shown} does not answer at any speed")
            address = dataclasses.replace(address, speed=self.speed)
        self._gone.clear()
        self._line = await way.open(address, self._heard, self._gone.set)
        try:
            self.connected = True
            self.controller.connected(self.now())
            self.flush()
            await self._gone.wait()
        finally:
            line, self._line = self._line, None
            line.close()

    def _heard(self, data: bytes) -> None:
        controller = self.controller
        try:
            controller.receive(data, self.now())
            if controller.silent:
                self.send()
            else:
                self.flush()
        except Exception:
            log.exception("the link of %s stumbled and connects anew", self.config.machine)
            self._gone.set()

    def send(self) -> None:
        link = self.controller.link
        if self.controller.wants_reconnect:
            self.controller.wants_reconnect = False
            self._gone.set()
        if self._line is not None:
            data = link.outgoing()
            if data:
                self._line.write(data)
        spoken = link.spoken()
        if spoken:
            self.line_log.add(self._moment.shop, spoken)

    @property
    def resends(self) -> int:
        return self.controller.link.resends

    def hands(self) -> wh.MachineControls:
        prompts = self.controller.prompts
        more = {
            "nozzle_rests": self.controller.feeder.nozzle_rests,
            "waits": prompts.waits,
            "question": prompts.question,
            "choices": list(prompts.choices),
        }
        return super().hands().model_copy(update=more)
