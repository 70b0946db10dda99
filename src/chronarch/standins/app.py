"""All stand-ins of one process, with an HTTP port for their cameras, their records and their faults."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator, Callable
from typing import Any

from fastapi import FastAPI, HTTPException, Response
from pydantic import BaseModel

from chronarch.standins.announcing import Announcing
from chronarch.standins.cameras import FAULTY, add_cameras, write_pipe
from chronarch.standins.dialects import BY_NAME
from chronarch.standins.inbox import MailSink, add_inbox
from chronarch.standins.machine import MachineStandin, Setup
from chronarch.standins.plugs import FAULTY as PLUG_FAULTY
from chronarch.standins.plugs import PlugStandin, add_plugs, report_forever
from chronarch.standins.push_service import add_push_service
from chronarch.standins.rtsp import RtspServer
from chronarch.standins.scene.matter import FAILURES
from chronarch.standins.stored import StoredStandin


class FaultRequest(BaseModel):
    """A fault to bring about. `part`: nozzle or bed; `value`: seconds, share or °C/s, as the fault's line says."""

    part: str = "nozzle"
    value: float = 0.0
    text: str = ""


def _drift(m: MachineStandin, o: FaultRequest) -> None:
    m.heater(o.part).drift_c_s = o.value


def _dead(m: MachineStandin, o: FaultRequest) -> None:
    m.heater(o.part).dead = True


def _corrupt(m: MachineStandin, o: FaultRequest) -> None:
    m.corrupt_share = o.value


def _lose(m: MachineStandin, o: FaultRequest) -> None:
    m.lose_share = o.value


def _corrupt_bytes(m: MachineStandin, o: FaultRequest) -> None:
    m.corrupt_bytes = o.value


def _damage_piece(m: MachineStandin, o: FaultRequest) -> None:
    if isinstance(m, StoredStandin):
        m.damage_next_piece = True


def _camera(m: MachineStandin, o: FaultRequest) -> None:
    if o.text and o.text not in FAULTY:
        raise HTTPException(422, f"A camera cannot do {o.text!r}; it can do {', '.join(FAULTY)}.")
    m.camera_fault = o.text


def _speak(m: MachineStandin, o: FaultRequest) -> None:
    if o.text not in BY_NAME:
        raise HTTPException(422, f"There is no dialect {o.text!r}; there are {', '.join(BY_NAME)}.")
    m.dialect = BY_NAME[o.text]


def _plug(m: MachineStandin, o: FaultRequest) -> None:
    if o.text and o.text not in PLUG_FAULTY:
        raise HTTPException(422, f"A plug cannot do {o.text!r}; it can do {', '.join(PLUG_FAULTY)}.")
    m.plug_fault = o.text


def _build_fails(m: MachineStandin, o: FaultRequest) -> None:
    kind = next((kind for kind in FAILURES if kind == o.text), None)
    if kind is None:
        raise HTTPException(422, f"A build cannot fail as {o.text!r}; it can as {', '.join(FAILURES)}.")
    m.picture.fail(kind)


def _heal(m: MachineStandin, o: FaultRequest) -> None:
    m.late_s = 0.0
    m.corrupt_share = m.lose_share = m.corrupt_bytes = 0.0
    m.camera_fault = m.plug_fault = ""
    m.extra_w = 0.0
    m.part_sticks = False
    if m.part_stays:
        m.part_stays = False
        m.picture.clear()
    for heater in (m.nozzle, m.bed):
        heater.dead, heater.drift_c_s, heater.offset_c = False, 0.0, 0.0


FAULTS: dict[str, tuple[str, Callable[[MachineStandin, FaultRequest], None]]] = {
    "filament-out": ("the sensor sees no filament", lambda m, o: m.say_all("filament_out")),
    "heater-dead": ("the heater of PART gives no more heat", _dead),
    "drift": ("the reading of PART wanders off by VALUE °C a second", _drift),
    "link-cut": ("the connection drops and none is taken for VALUE real seconds", lambda m, o: m.cut_link(o.value)),
    "corrupt": ("a share VALUE of all lines is damaged, both ways", _corrupt),
    "corrupt-bytes": ("a share VALUE of all bytes is damaged, both ways", _corrupt_bytes),
    "lose": ("a share VALUE of all lines is lost, both ways", _lose),
    "damage-piece": ("the next piece of a file is damaged on its way", _damage_piece),
    "camera": (f"the camera does TEXT: {', '.join(FAULTY)}", _camera),
    "plug": (f"the plug does TEXT: {', '.join(PLUG_FAULTY)}", _plug),
    "click": ("somebody presses the button at the machine", lambda m, o: m.click()),
    "draws": ("something at its plug draws VALUE W more", lambda m, o: setattr(m, "extra_w", o.value)),
    "build-fails": (f"what is laid fails as TEXT from now on: {', '.join(FAILURES)}", _build_fails),
    "part-stays": (
        "who clears the bed leaves what is on it, until it heals",
        lambda m, o: setattr(m, "part_stays", True),
    ),
    "part-sticks": ("parts do not come off by themselves", lambda m, o: setattr(m, "part_sticks", True)),
    "reset": ("the machine starts anew", lambda m, o: m.reset()),
    "reset-unheard": ("the machine starts anew and does not say so", lambda m, o: m.reset(heard=False)),
    "kill": (
        "the machine reports TEXT as a fault and never says anything again",
        lambda m, o: m.kill(o.text),
    ),
    "asks-for-hands": ("the machine pauses itself and waits for a person", lambda m, o: m.ask_for_hands()),
    "late": (
        "each line is held back by up to VALUE real seconds, both ways",
        lambda m, o: setattr(m, "late_s", o.value),
    ),
    "dialect": ("the machine speaks the dialect TEXT", _speak),
    "fault": ("the machine reports TEXT as a fault", lambda m, o: m.say(f"Error:{o.text or 'fan 0 stalled'}")),
    "halt": ("the machine stops itself, saying TEXT", lambda m, o: m.halt(o.text or "driver fault")),
    "heal": ("heaters and wire are well again", _heal),
}


def make_app(setups: list[Setup], rtsp_port: int = 0, smtp_port: int = 0, mail_login: str = "") -> FastAPI:
    """The HTTP side of `setups`' stand-ins; the machines' own ports open with it, and their cameras' RTSP port."""
    machines = {s.name.lower(): StoredStandin(s) if s.broker else MachineStandin(s) for s in setups}
    mail = MailSink(mail_login)
    plugs = {name: PlugStandin(machine) for name, machine in machines.items() if machine.setup.plug}

    @contextlib.asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        for machine in machines.values():
            await machine.start()
        announcing = Announcing([machine.setup for machine in machines.values() if machine.setup.announces])
        await announcing.start()
        rtsp = RtspServer(rtsp_port, lambda name: machines.get(name.lower()))
        if rtsp_port:
            await rtsp.start()
        if smtp_port:
            await mail.start(smtp_port)
        reports = [
            asyncio.create_task(report_forever(plug, machines[name].setup.name, machines[name].setup.plug))
            for name, plug in plugs.items()
            if machines[name].setup.plug != "http"
        ]
        pipes = [asyncio.create_task(write_pipe(m)) for m in machines.values() if m.setup.local_camera]
        yield
        for task in (*pipes, *reports):
            task.cancel()
        await announcing.stop()
        await rtsp.stop()
        await mail.stop()
        for machine in machines.values():
            await machine.stop()

    app = FastAPI(title="Stand-ins", lifespan=life)

    def find(name: str) -> MachineStandin:
        try:
            return machines[name.lower()]
        except KeyError:
            raise HTTPException(404, f"There is no stand-in named {name}.") from None

    @app.get("/machines/{name}")
    async def show(name: str) -> dict[str, Any]:
        m = find(name)
        return {
            "name": m.setup.name,
            "port": m.port,
            "taken": len(m.record.commands),
            "sha256": m.record.sha256,
            "segments": m.picture.segments,
            "failing": m.picture.failing,
            "position_mm": m.motion.position,
            "nozzle_c": m.nozzle.reading_c,
            "nozzle_asked_c": m.nozzle.target_c,
            "bed_c": m.bed.reading_c,
            "bed_asked_c": m.bed.target_c,
            "corrupted": m.corrupted,
            "halted": m.halted,
            "fan": m.fan,
            "speed_pct": m.speed_pct,
            "flow_pct": m.flow_pct,
            "z_offset_mm": m.z_offset_mm,
            "switched": m.switched,
            "display": m.display,
            "last_line": m._last,
            "pieces": getattr(m, "pieces", 0),
            "camera_streams": m.camera_streams,
            "camera_requests": m.camera_requests,
        }

    @app.get("/machines/{name}/executed")
    async def executed(name: str) -> Response:
        return Response("\n".join(find(name).record.commands), media_type="text/plain")

    @app.get("/machines/{name}/picture.png")
    async def picture(name: str) -> Response:
        """What lies on the bed, from above, one pixel a quarter of a millimetre."""
        return Response(find(name).picture.from_above(), media_type="image/png")

    add_cameras(app, machines, find)
    add_plugs(app, find, plugs)
    add_inbox(app, mail)
    add_push_service(app)

    @app.post("/machines/{name}/faults/{fault}")
    async def bring(name: str, fault: str, asked: FaultRequest) -> dict[str, str]:
        machine = find(name)
        if fault not in FAULTS:
            raise HTTPException(404, f"There is no fault {fault}; there are {', '.join(FAULTS)}.")
        FAULTS[fault][1](machine, asked)
        return {"machine": machine.setup.name, "fault": fault}

    return app
