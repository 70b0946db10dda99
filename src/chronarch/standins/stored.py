"""A machine that takes whole files and runs them itself, behind an MQTT 5 broker.

Topics and messages are those of docs/protocols/store-and-run.yaml, written here anew from that page.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import json
import re
import ssl
from collections import OrderedDict
from typing import Any

import aiomqtt

from chronarch.standins.machine import Halt, MachineStandin, Record, Setup

REPORT_EVERY_S = 0.2
_COMMENT = re.compile(r";.*|\([^)]*\)")
Answer = tuple[str, list[str]]


class StoredStandin(MachineStandin):
    """Runs files itself. `store` is what it has of files, by hash; a restart of the machine keeps them."""

    def __init__(self, setup: Setup) -> None:
        super().__init__(setup)
        self.store: dict[str, bytearray] = {}
        self.whole: set[str] = set()
        self.sizes: dict[str, int] = {}
        self.damage_next_piece = False
        self.run: int | None = None
        self.state = "resting"
        self.ended: str | None = None
        self.reason = ""
        self.taken = 0
        self.pieces = 0
        self._said: list[str] | None = None
        self._answered: OrderedDict[str, dict[str, Any]] = OrderedDict()
        self._client: aiomqtt.Client | None = None
        self._running: asyncio.Task[None] | None = None
        self._pause_wanted = False
        self._stop_wanted = False
        self._go = asyncio.Event()
        self._cut = asyncio.Event()
        self._returns_to: tuple[float, float, float] | None = None

    async def start(self) -> None:
        await super().start()
        self._tasks.append(asyncio.create_task(self._connect_forever()))

    def topic(self, leaf: str) -> str:
        return f"chronarch/machines/{self.setup.name}/{leaf}"

    # The broker ----------------------------------------------------------------------------------------------

    async def _connect_forever(self) -> None:
        host, port, *who = self.setup.broker.split(":")
        tls = ssl.create_default_context(cafile=self.setup.ca) if self.setup.ca else None
        away = aiomqtt.Will(self.topic("presence"), json.dumps({"here": False}), qos=1, retain=True)
        while True:
            if asyncio.get_running_loop().time() < self._cut_until:
                await asyncio.sleep(0.02)
                continue
            self._cut.clear()
            try:
                async with aiomqtt.Client(
                    host, int(port), username=who[0] if who else None, password=who[1] if who else None,
                    tls_context=tls, will=away, protocol=aiomqtt.ProtocolVersion.V5, keepalive=5, timeout=5,
                    identifier=f"machine-{self.setup.name}",
                ) as client:  # fmt: skip
                    await self._talk(client)
            except (aiomqtt.MqttError, OSError, TimeoutError):
                pass
            self._client = None
            await asyncio.sleep(0.1)

    async def _talk(self, client: aiomqtt.Client) -> None:
        self._client = client
        await client.subscribe(self.topic("order"), qos=1)
        await client.subscribe(self.topic("piece"), qos=1)
        await client.publish(self.topic("presence"), json.dumps({"here": True}), qos=1, retain=True)
        reporting = asyncio.create_task(self._report_forever(client))
        hearing = asyncio.create_task(self._hear_forever(client))
        cut = asyncio.create_task(self._cut.wait())
        try:
            await asyncio.wait((reporting, hearing, cut), return_when=asyncio.FIRST_COMPLETED)
        finally:
            pending = {reporting, hearing, cut}
            while pending:  # before Python 3.12 wait_for, within the client, may lose a cancellation
                for task in pending:
                    task.cancel()
                _, pending = await asyncio.wait(pending, timeout=0.1)
        if self._cut.is_set():
            client._client._sock_close()  # the plug is out: no goodbye

    async def _report_forever(self, client: aiomqtt.Client) -> None:
        while True:
            await client.publish(self.topic("report"), json.dumps(self.report()), qos=1, retain=True)
            await asyncio.sleep(REPORT_EVERY_S)

    def report(self) -> dict[str, Any]:
        """What the machine tells of itself."""
        self._warm()
        n, b = self.nozzle, self.bed
        return {
            "run": self.run,
            "state": "halted" if self.halted else self.state,
            "ended": self.ended,
            "reason": self.halted or self.reason,
            "taken": self.taken,
            "heat": {
                "nozzle": [round(n.reading_c, 2), n.target_c],
                "bed": [round(b.reading_c, 2), b.target_c],
            },
            "position_mm": list(self.motion.position) if self.motion.homed else None,
        }

    async def _hear_forever(self, client: aiomqtt.Client) -> None:
        async for message in client.messages:
            if str(message.topic) == self.topic("piece"):
                assert isinstance(message.payload, bytes)
                properties = dict(getattr(message.properties, "UserProperty", []))
                await self._piece(client, properties["sha256"], int(properties["offset"]), message.payload)
                continue
            assert isinstance(message.payload, bytes | str)
            order = json.loads(message.payload)
            if order["do"] == "offer":
                await self._offered(client, order["sha256"], order["bytes"])
            elif order["do"] == "halt":
                self.halt("emergency stop")
            else:
                asyncio.create_task(self._obey(client, order))  # noqa: RUF006

    # Files ---------------------------------------------------------------------------------------------------

    async def _offered(self, client: aiomqtt.Client, sha256: str, size: int) -> None:
        self.sizes[sha256] = size
        self.store.setdefault(sha256, bytearray())
        await self._tell_store(client, sha256, offered=True)

    async def _piece(self, client: aiomqtt.Client, sha256: str, offset: int, data: bytes) -> None:
        have = self.store.get(sha256)
        if have is None or sha256 in self.whole or offset != len(have):
            return
        self.pieces += 1
        if self.damage_next_piece:
            self.damage_next_piece = False
            data = bytes([data[0] ^ 1]) + data[1:]
        have += data
        damaged = False
        if len(have) >= self.sizes[sha256]:
            damaged = hashlib.sha256(have).hexdigest() != sha256
            if damaged:
                have.clear()
            else:
                self.whole.add(sha256)
        await self._tell_store(client, sha256, damaged=damaged)

    async def _tell_store(self, client: aiomqtt.Client, sha256: str, **more: bool) -> None:
        body = {"sha256": sha256, "bytes": len(self.store[sha256]), "whole": sha256 in self.whole, **more}
        await client.publish(self.topic("store"), json.dumps(body), qos=1)

    # Orders --------------------------------------------------------------------------------------------------

    async def _obey(self, client: aiomqtt.Client, order: dict[str, Any]) -> None:
        """Do an order once, however often it comes, and answer it."""
        number = str(order["id"])
        if number not in self._answered:
            self._answered[number] = {}
            try:
                problem, said = await self._do(order)
            except Halt:
                problem, said = self.halted, []
            self._answered[number] = {"id": number, "problem": problem, "said": said}
            while len(self._answered) > 200:
                self._answered.popitem(last=False)
        if self._answered[number]:
            with contextlib.suppress(aiomqtt.MqttError):
                await client.publish(self.topic("answer"), json.dumps(self._answered[number]), qos=1)

    async def _do(self, order: dict[str, Any]) -> Answer:
        match order["do"]:
            case "run":
                return self._start(int(order["run"]), str(order["sha256"])), []
            case "pause" | "resume" | "stop" if self.state not in ("running", "paused"):
                return "nothing runs", []
            case "pause":
                self._pause_wanted, self._hold_heat = True, bool(order.get("heat", True))
            case "resume":
                self._pause_wanted = False
                self._go.set()
            case "stop":
                self._stop_wanted = self._skip_wait = True
                self._go.set()
            case "lines":
                return await self._lines(order["lines"])
            case other:
                return f"it does not know how to {other}", []
        return "", []

    async def _lines(self, lines: list[str]) -> Answer:
        if self.halted:
            return self.halted, []
        self._said = []
        try:
            for line in lines:
                await self._command(line, None)
        finally:
            said, self._said = self._said or [], None
        return "", said

    def say(self, line: str) -> None:
        if self._said is not None:
            self._said.append(line)
        elif line.startswith("//action:out_of_filament"):
            self._pause_wanted, self._hold_heat, self.reason = True, True, "filament ran out"

    # Running -------------------------------------------------------------------------------------------------

    def _start(self, run: int, sha256: str) -> str:
        if self.halted:
            return self.halted
        if run == self.run and self.state != "resting":
            return ""
        if sha256 not in self.whole:
            return "the file is not here whole"
        if self.state in ("running", "paused"):
            return "another file runs"
        self.run, self.state, self.ended, self.reason = run, "running", None, ""
        self.taken = 0
        self._pause_wanted = self._stop_wanted = False
        self.record = Record()
        self.picture.clear()
        self._running = asyncio.create_task(self._run_file(bytes(self.store[sha256])))
        return ""

    async def _run_file(self, data: bytes) -> None:
        try:
            for raw in data.decode("ascii", "replace").splitlines():
                command = _COMMENT.sub("", raw).strip()
                if not command:
                    continue
                await self._command(command, self.taken + 1)
                self.taken += 1
                if self._pause_wanted:
                    await self._stand()
                if self._stop_wanted:
                    break
            await self._finish_moves({}, "")
        except Halt:
            return
        self.nozzle.target_c = self.bed.target_c = 0.0
        self.ended = "stopped" if self._stop_wanted else "completed"
        self.state = "ended"

    _hold_heat = True

    async def _stand(self) -> None:
        """Paused: park, wait for hands, come back."""
        await self._finish_moves({}, "")
        before, nozzle, bed = self.motion.position, self.nozzle.target_c, self.bed.target_c
        if not self._hold_heat:
            self.nozzle.target_c = self.bed.target_c = 0.0
        self.motion.position = (before[0], before[1], before[2] + 5)
        self.state = "paused"
        self._go.clear()
        while self._pause_wanted and not self._stop_wanted:
            self._check()
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(0.1):
                    await self._go.wait()
        if self._stop_wanted:
            return
        self.nozzle.target_c, self.bed.target_c = nozzle, bed
        while abs(self.nozzle.reading_c - nozzle) > 2 and nozzle:
            self._check()
            self._warm()
            await asyncio.sleep(0.02)
        self.motion.position = before
        self.state, self.reason = "running", ""

    # Faults --------------------------------------------------------------------------------------------------

    def reset(self, heard: bool = True) -> None:
        if self._running is not None:
            self._running.cancel()
        self.run, self.state, self.taken = None, "resting", 0
        super().reset(heard)

    def cut_link(self, seconds: float) -> None:
        super().cut_link(seconds)
        self._cut.set()
