"""The link of a machine that runs files itself: moves messages between its broker and its mind (MQTT 5)."""

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

from chronarch.core.happenings import Noticed
from chronarch.core.kept import Kept
from chronarch.core.mind import Errand
from chronarch.core.stored import Message, StoredSteward
from chronarch.core.wording import adjustment
from chronarch.tender.keeping import Standing
from chronarch.tender.lines import Held, hold
from chronarch.tender.link import RETRY_S, TICK_S, MachineLink, Surroundings
from chronarch.tender.tasks import end, together
from chronarch.wire import hands as wh
from chronarch.wire.upstream import Charge

ROOT = "chronarch/machines"
HEARD = ("presence", "report", "store", "answer")
log = logging.getLogger("chronarch.link")


class StoredMachine(MachineLink):
    """Minds one machine behind a broker."""

    def __init__(self, charge: Charge, around: Surroundings, standing: Standing | None = None) -> None:
        self.stored = StoredSteward(charge.model.core(), prefix=secrets.token_hex(4))
        self._client: aiomqtt.Client | None = None
        self._to_send: asyncio.Queue[Message] = asyncio.Queue()
        super().__init__(charge, around, self.stored, standing)

    async def run(self) -> None:
        await together(self._connect_forever(), self._tick_forever(), self._write_forever())

    def _client_of(self) -> aiomqtt.Client:
        a = self.address
        tls = ssl.create_default_context(cafile=a.ca or None) if a.kind == "mqtts" else None
        return aiomqtt.Client(
            a.host, a.port, username=a.user or None, password=a.password or None, tls_context=tls,
            protocol=aiomqtt.ProtocolVersion.V5, keepalive=10, timeout=5, max_queued_outgoing_messages=1000,
            identifier=f"{self.around.tender}-{self.charge.machine}-{secrets.token_hex(3)}"[:60],
        )  # fmt: skip

    async def _connect_forever(self) -> None:
        await self._settled.wait()
        tries = 0
        while True:
            try:
                with hold(self.address, f"{self.charge.machine} of {self.around.tender}"):
                    async with self._client_of() as client:
                        tries = 0
                        await self._talk(client)
            except Held as error:
                if self._told_of_holder != str(error):
                    self._told_of_holder = str(error)
                    self.around.tell(self.charge.machine, self.around.clock.now(), Noticed(str(error), self.mind.build))
            except (aiomqtt.MqttError, OSError, TimeoutError) as error:
                log.info("%s: %s", self.charge.machine, error)
            self.connected = False
            self.stored.disconnected(self._now())
            self.flush()
            await asyncio.sleep(RETRY_S[min(tries, len(RETRY_S) - 1)])
            tries += 1

    async def _talk(self, client: aiomqtt.Client) -> None:
        """One connection to the broker."""
        self.stored.connected(self._now())
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
                    self.stored.heard(topic, body, self._now())
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
        self.line_log.add(self.around.clock.now(), [(sent, topic.encode() + b" " + text[:2000], False)])

    async def _tick_forever(self) -> None:
        while True:
            await asyncio.sleep(TICK_S)
            self.stored.tick(self._now())
            self.flush()

    def send(self) -> None:
        for message in self.stored.outgoing():
            if message.body is not None and message.body.get("do") == "halt":
                self._pass_everything(message)
            else:
                self._to_send.put_nowait(message)

    def _pass_everything(self, message: Message) -> None:
        """An emergency stop goes before whatever waits."""
        waiting = []
        with contextlib.suppress(asyncio.QueueEmpty):
            while True:
                waiting.append(self._to_send.get_nowait())
        for each in [message, *waiting]:
            self._to_send.put_nowait(each)

    def kept(self) -> Kept | None:
        return self.stored.kept()

    def must_keep(self) -> bool:
        return self.stored.changed()

    def adopt(self, errand: Errand, kept: Kept) -> None:
        self.stored.adopt(errand, kept, self._now())

    def hands(self) -> wh.Hands:
        stored = self.stored
        more = {
            "asked": [adjustment(action) for action in stored.asked],
            "change": stored.change,
            "pauses_before": sorted(stored.pauses_before),
            "runs_file": True,
            "sent_share": stored.sent_share,
        }
        return super().hands().model_copy(update=more)


def _body(payload: Any) -> dict[str, Any] | None:
    """A message's JSON object; None for whatever is none."""
    try:
        body = json.loads(payload)
    except (ValueError, TypeError):
        return None
    return body if isinstance(body, dict) else None
