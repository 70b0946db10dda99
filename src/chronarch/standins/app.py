"""All stand-ins of one process, with an HTTP port for their cameras, their records and their faults."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator, Callable
from typing import Any

from fastapi import FastAPI, HTTPException, Response
from pydantic import BaseModel

from chronarch.standins.machine import MachineStandin, Setup


class FaultOrder(BaseModel):
    """A fault to bring about. `part`: nozzle or bed; `value`: seconds, share or °C/s, as the fault's line says."""

    part: str = "nozzle"
    value: float = 0.0
    text: str = ""


def _drift(m: MachineStandin, o: FaultOrder) -> None:
    m.heater(o.part).drift_c_s = o.value


def _dead(m: MachineStandin, o: FaultOrder) -> None:
    m.heater(o.part).dead = True


def _corrupt(m: MachineStandin, o: FaultOrder) -> None:
    m.corrupt_share = o.value


def _heal(m: MachineStandin, o: FaultOrder) -> None:
    m.corrupt_share = 0.0
    for heater in (m.nozzle, m.bed):
        heater.dead, heater.drift_c_s, heater.offset_c = False, 0.0, 0.0


FAULTS: dict[str, tuple[str, Callable[[MachineStandin, FaultOrder], None]]] = {
    "filament-out": ("the sensor sees no filament", lambda m, o: m.say("//action:out_of_filament T0")),
    "heater-dead": ("the heater of PART gives no more heat", _dead),
    "drift": ("the reading of PART wanders off by VALUE °C a second", _drift),
    "link-cut": ("the connection drops and none is taken for VALUE real seconds", lambda m, o: m.cut_link(o.value)),
    "corrupt": ("a share VALUE of all lines is damaged, both ways", _corrupt),
    "reset": ("the machine starts anew", lambda m, o: m.reset()),
    "fault": ("the machine reports TEXT as a fault", lambda m, o: m.say(f"Error:{o.text or 'fan 0 stalled'}")),
    "halt": ("the machine stops itself, saying TEXT", lambda m, o: m.halt(o.text or "driver fault")),
    "heal": ("heaters and wire are well again", _heal),
}


def make_app(setups: list[Setup]) -> FastAPI:
    """The HTTP side of `setups`' stand-ins; the machines' own ports open with it."""
    machines = {s.name.lower(): MachineStandin(s) for s in setups}

    @contextlib.asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        for machine in machines.values():
            await machine.start()
        yield
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
            "position_mm": m.motion.position,
            "nozzle_c": m.nozzle.reading_c,
            "nozzle_asked_c": m.nozzle.target_c,
            "bed_c": m.bed.reading_c,
            "bed_asked_c": m.bed.target_c,
            "corrupted": m.corrupted,
            "halted": m.halted,
        }

    @app.get("/machines/{name}/executed")
    async def executed(name: str) -> Response:
        return Response("\n".join(find(name).record.commands), media_type="text/plain")

    @app.get("/machines/{name}/frame.jpg")
    async def frame(name: str) -> Response:
        return Response(find(name).frame(), media_type="image/jpeg", headers={"Cache-Control": "no-store"})

    @app.post("/machines/{name}/faults/{fault}")
    async def bring(name: str, fault: str, order: FaultOrder) -> dict[str, str]:
        machine = find(name)
        if fault not in FAULTS:
            raise HTTPException(404, f"There is no fault {fault}; there are {', '.join(FAULTS)}.")
        FAULTS[fault][1](machine, order)
        return {"machine": machine.setup.name, "fault": fault}

    return app
