"""Drives a machine that runs files itself: moves messages between its broker and its controller (MQTT 5)."""

from __future__ import annotations

import asyncio
import contextlib
import json
import logging
import secrets
import ssl
from typing import Any

import aiomqtt
from paho.mqtt.packettypes import PacketTypes
from paho.mqtt.properties import Properties

from chronarch.core.control.stored_file_controller import StoredFileController
from chronarch.core.control.stored_file_messages import StoredFileMessage
from chronarch.tender.checkpoints import MachineCheckpoint
from chronarch.tender.controllers.driver import DriverContext, MachineDriver
from chronarch.tender.tasks import end
from chronarch.wire.control.upstream import MachineConfig
from chronarch.wire.machines import machine as wh

ROOT = "chronarch/machines"
HEARD = ("presence", "report", "store", "answer")
log = logging.getLogger("chronarch.link")


class StoredFileDriver(MachineDriver):
    """Drives one machine behind a broker."""

    controller: StoredFileController
    trouble = (aiomqtt.MqttError, OSError, TimeoutError)

    def __init__(
        self, config: MachineConfig, context: DriverContext, standing: MachineCheckpoint | None = None
    ) -> None:
        self.controller = StoredFileController(config.model, prefix=secrets.token_hex(4))
        self._client: aiomqtt.Client | None = None
        self._to_send: asyncio.Queue[StoredFileMessage] = asyncio.Queue()
        super().__init__(config, context, self.controller, standing)

    def _client_of(self) -> aiomqtt.Client:
        a = self.address
        tls = ssl.create_default_context(cafile=a.ca or None) if a.scheme.tls else None
        return aiomqtt.Client(
            a.host, a.port, username=a.user or None, password=a.password or None, tls_context=tls,
            protocol=aiomqtt.ProtocolVersion.V5, keepalive=10, timeout=5, max_queued_outgoing_messages=1000,
            identifier=f"{self.context.tender}-{self.config.machine}-{secrets.token_hex(3)}"[:60],
        )  # fmt: skip

    async def _talk(self) -> None:
        async with self._client_of() as client:
            self.controller.connected(self.now())
            while not self._to_send.empty():
                self._to_send.get_nowait()
            for topic in HEARD:
                await client.subscribe(f"{ROOT}/{self.address.name}/{topic}", qos=1)
            self.connected = True
            sending = asyncio.create_task(self._send_forever(client))
            try:
                async for message in client.messages:
                    topic = str(message.topic).rsplit("/", 1)[1]
                    body = _body(message.payload)
                    if body is not None:
                        self._log(False, topic, message.payload)
                        self.controller.heard(topic, body, self.now())
                        self.flush()
                    if sending.done():
                        sending.result()
            finally:
                await end([sending])

    async def _send_forever(self, client: aiomqtt.Client) -> None:
        while True:
            message = await self._to_send.get()
            topic = f"{ROOT}/{self.address.name}/{message.topic}"
            if message.body is not None:
                payload = json.dumps(message.body).encode()
                self._log(True, message.topic, payload)
                await client.publish(topic, payload, qos=1)
                continue
            properties = Properties(PacketTypes.PUBLISH)  # type: ignore[no-untyped-call]
            properties.UserProperty = [("sha256", message.sha256), ("offset", str(message.offset))]
            await client.publish(topic, message.piece, qos=1, properties=properties)

    def _log(self, sent: bool, topic: str, payload: Any) -> None:
        text = payload if isinstance(payload, bytes) else str(payload).encode()
        self.line_log.add(self.context.clock.now(), [(sent, topic.encode() + b" " + text[:2000], False)])

    def send(self) -> None:
        for message in self.controller.outgoing():
            if message.body is not None and message.body.get("do") == "halt":
                self._pass_everything(message)
            else:
                self._to_send.put_nowait(message)

    def _pass_everything(self, message: StoredFileMessage) -> None:
        """An emergency stop goes before everything that waits."""
        waiting = []
        with contextlib.suppress(asyncio.QueueEmpty):
            while True:
                waiting.append(self._to_send.get_nowait())
        for each in [message, *waiting]:
            self._to_send.put_nowait(each)

    def hands(self) -> wh.MachineControls:
        return super().hands().model_copy(update={"runs_file": True, "sent_share": self.controller.sent_share})


def _body(payload: Any) -> dict[str, Any] | None:
    """The JSON object of a message; None if it is none."""
    try:
        body = json.loads(payload)
    except (ValueError, TypeError):
        return None
    return body if isinstance(body, dict) else None
