"""A plug behind an MQTT 5 broker."""

from __future__ import annotations

import asyncio
import secrets
import ssl
from contextlib import AsyncExitStack

import aiomqtt

from chronarch.core.machines.plugs import PlugFault, PlugReport, read_report
from chronarch.tender.peripherals.plugs.plug import ANSWER_S, PlugConnection
from chronarch.tender.peripherals.reach import NoDevice, find_host

SILENT_S = 30.0
"""A plug that reports by itself may be silent for so long, real seconds."""


class MqttPlug(PlugConnection):
    _stack: AsyncExitStack | None = None
    _client: aiomqtt.Client
    _hearing: asyncio.Task[None] | None = None
    _report: bytes | None = None

    async def read(self) -> PlugReport:
        await self._connected()
        if self.profile.ask:
            self._report = None
            await self._say(self.fill(self.profile.ask), "")
        await self._heard(ANSWER_S if self.profile.ask else SILENT_S)
        assert self._report is not None
        return read_report(self.profile, self._report)

    async def turn(self, on: bool) -> None:
        await self._connected()
        if not self.profile.ask:
            self._report = None  # what it said before does not count
        p = self.profile
        await self._say(self.fill(p.turn, on=on), self.fill(p.on if on else p.off, on=on))

    async def _heard(self, within_s: float) -> None:
        deadline_s = asyncio.get_running_loop().time() + within_s
        while self._report is None:
            if self._hearing is None or self._hearing.done():
                await self.close()
                raise PlugFault("its broker has cut the connection")
            if asyncio.get_running_loop().time() > deadline_s:
                await self.close()
                topic = self.fill(self.profile.report)
                raise PlugFault(f"its broker has had no report of it at {topic} for {within_s:.0f} s")
            await asyncio.sleep(0.02)

    async def _say(self, topic: str, text: str) -> None:
        try:
            await self._client.publish(topic, text, qos=1, timeout=ANSWER_S)
        except aiomqtt.MqttError as error:
            await self.close()
            raise PlugFault(f"its broker does not take what it is told: {error}") from None

    async def _connected(self) -> None:
        if self._stack is not None:
            return
        a = self.address
        try:
            await find_host(a.host, a.port, self.keep_away, "broker")
        except NoDevice as error:
            raise PlugFault(str(error)) from None
        self._client = aiomqtt.Client(
            a.host, a.port, username=self.login or None, password=self.password or None,
            tls_context=ssl.create_default_context() if a.scheme == "mqtts" else None,
            protocol=aiomqtt.ProtocolVersion.V5, keepalive=10, timeout=ANSWER_S, max_queued_incoming_messages=100,
            identifier=f"plug-{secrets.token_hex(6)}",
        )  # fmt: skip
        stack = AsyncExitStack()
        try:
            async with asyncio.timeout(2 * ANSWER_S):
                await stack.enter_async_context(self._client)
                await self._client.subscribe(self.fill(self.profile.report), qos=1)
        except (aiomqtt.MqttError, OSError, TimeoutError) as error:
            await stack.aclose()
            raise PlugFault(f"its broker cannot be reached: {str(error) or 'no answer'}") from None
        self._stack, self._report = stack, None
        self._hearing = asyncio.create_task(self._hear())

    async def _hear(self) -> None:
        try:
            async for message in self._client.messages:
                if isinstance(message.payload, bytes | bytearray):
                    self._report = bytes(message.payload)
        except aiomqtt.MqttError:
            pass

    async def close(self) -> None:
        stack, self._stack = self._stack, None
        if self._hearing is not None:
            self._hearing.cancel()
            self._hearing = None
        if stack is not None:
            try:
                async with asyncio.timeout(ANSWER_S):
                    await stack.aclose()
            except (aiomqtt.MqttError, OSError, TimeoutError):
                pass
