"""Simulated plugs that stand-in machines hang on: one make that is asked over HTTP, one that reports to an MQTT broker.
They count what heaters, motors and the board draw."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import json
from collections.abc import Callable
from typing import Any

import aiomqtt
from fastapi import FastAPI, HTTPException, Request, Response

from chronarch.standins.machine import MachineStandin

REPORT_EVERY_S, BOOT_S = 0.5, 0.3
"""Real seconds."""
FAULTY = {
    "silent": "never answers",
    "garbage": "answers with something that is no JSON",
    "stuck": "says yes and does not turn",
    "fails": "answers 503",
}
"""What the fault `plug` can bring about."""


class PlugStandin:
    """The plug of one machine. Off, the machine is without power: its link is gone, its heaters are cold."""

    def __init__(self, machine: MachineStandin) -> None:
        self._machine = machine
        self.on = True

    @property
    def fault(self) -> str:
        return self._machine.plug_fault

    def watts(self) -> float:
        return self._machine.draws_w() if self.on else 0.0

    def wh(self) -> float:
        return self._machine.drawn_j() / 3600

    def turn(self, on: bool) -> None:
        if self.fault == "stuck" or on == self.on:
            return
        self.on = on
        if on:
            self._machine.power_up(BOOT_S)
        else:
            self._machine.power_down()


def add_plugs(app: FastAPI, find: Callable[[str], MachineStandin], plugs: dict[str, PlugStandin]) -> None:
    """Give the application the routes of the plugs that are asked over HTTP."""

    def plug_of(request: Request, name: str) -> PlugStandin:
        machine = find(name)
        plug = plugs.get(machine.setup.name.lower())
        if plug is None or machine.setup.plug != "http":
            raise HTTPException(404, f"{name} hangs on no plug that is asked over HTTP.")
        if machine.setup.plug_login:
            shown = request.headers.get("authorization", "")
            if shown != "Basic " + base64.b64encode(machine.setup.plug_login.encode()).decode():
                raise HTTPException(401, "sign in")
        if plug.fault == "fails":
            raise HTTPException(503, "out of order")
        return plug

    @app.get("/sockets/{name}/status")
    async def status(request: Request, name: str) -> Response:
        plug = plug_of(request, name)
        if plug.fault == "silent":
            await asyncio.sleep(3600)
        if plug.fault == "garbage":
            return Response("<html>hello</html>", media_type="text/html")
        said = {
            "socket": {"lit": plug.on},
            "meter": {"now_mw": round(plug.watts() * 1000), "count_kwh": plug.wh() / 1000},
        }
        return Response(json.dumps(said), media_type="application/json")

    @app.put("/sockets/{name}/lit")
    async def turn(request: Request, name: str) -> dict[str, Any]:
        plug, body = plug_of(request, name), await request.json()
        if not isinstance(body, dict) or not isinstance(body.get("lit"), bool):
            raise HTTPException(422, "say whether it is to be lit")
        plug.turn(body["lit"])
        return {"lit": plug.on}


async def report_forever(plug: PlugStandin, name: str, broker: str) -> None:
    """A plug behind a broker (HOST:PORT[:USER:PASSWORD]): it reports by itself, and turns when it is told."""
    host, port, *who = broker.split(":")
    while True:
        with contextlib.suppress(aiomqtt.MqttError, OSError, TimeoutError):
            async with aiomqtt.Client(
                host, int(port), username=who[0] if who else None, password=who[1] if who else None,
                protocol=aiomqtt.ProtocolVersion.V5, keepalive=5, timeout=5, identifier=f"socket-{name}",
            ) as client:  # fmt: skip
                await client.subscribe(f"sockets/{name}/turn", qos=1)
                hearing = asyncio.create_task(_hear(client, plug))
                try:
                    while not hearing.done():
                        if plug.fault not in ("silent", "fails"):
                            await client.publish(f"sockets/{name}/says", _says(plug), qos=1)
                        await asyncio.sleep(REPORT_EVERY_S)
                finally:
                    hearing.cancel()
        await asyncio.sleep(0.2)


def _says(plug: PlugStandin) -> str:
    if plug.fault == "garbage":
        return "hello"
    return json.dumps(
        {"state": "closed" if plug.on else "open", "w": round(plug.watts(), 2), "wh": round(plug.wh(), 4)}
    )


async def _hear(client: aiomqtt.Client, plug: PlugStandin) -> None:
    async for message in client.messages:
        if message.payload in (b"close", b"open"):
            plug.turn(message.payload == b"close")
