"""Calls about upkeep: tasks and checks, what was done, parts, and spans in which machines may not build."""

from __future__ import annotations

from chronarch.client.call import Call
from chronarch.wire.common import RequestDone
from chronarch.wire.upkeep import fleet_state as wf
from chronarch.wire.upkeep import tasks as w
from chronarch.wire.upkeep.windows import NewUpkeep, Upkeep


def upkeep_windows() -> Call[list[Upkeep]]:
    return Call("GET", "/api/upkeep-windows", list[Upkeep])


def add_upkeep_window(asked: NewUpkeep) -> Call[Upkeep]:
    return Call("POST", "/api/upkeep-windows", Upkeep, body=asked)


def remove_upkeep_window(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/upkeep-windows/{number}", RequestDone)


def upkeep_tasks() -> Call[list[w.UpkeepTask]]:
    return Call("GET", "/api/upkeep/tasks", list[w.UpkeepTask])


def add_upkeep_task(asked: w.NewUpkeepTask) -> Call[w.UpkeepTask]:
    return Call("POST", "/api/upkeep/tasks", w.UpkeepTask, body=asked)


def change_upkeep_task(number: int, asked: w.NewUpkeepTask) -> Call[w.UpkeepTask]:
    return Call("PUT", f"/api/upkeep/tasks/{number}", w.UpkeepTask, body=asked)


def drop_upkeep_task(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/upkeep/tasks/{number}", RequestDone)


def add_upkeep_picture(number: int, picture: bytes) -> Call[w.UpkeepTask]:
    """A JPEG or PNG picture that shows what to do."""
    return Call("POST", f"/api/upkeep/tasks/{number}/pictures", w.UpkeepTask, content=picture)


def upkeep_picture(number: int, sha256: str) -> Call[bytes]:
    return Call("GET", f"/api/upkeep/tasks/{number}/pictures/{sha256}", bytes)


def remove_upkeep_picture(number: int, sha256: str) -> Call[w.UpkeepTask]:
    return Call("DELETE", f"/api/upkeep/tasks/{number}/pictures/{sha256}", w.UpkeepTask)


def upkeep_due(machine: str = "") -> Call[list[w.DueTask]]:
    return Call("GET", "/api/upkeep/due", list[w.DueTask], params=_of(machine))


def upkeep_done(asked: w.NewUpkeepDone) -> Call[w.UpkeepDone]:
    return Call("POST", "/api/upkeep/done", w.UpkeepDone, body=asked)


def undo_upkeep(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/upkeep/done/{number}", RequestDone)


def put_upkeep_photo(number: int, picture: bytes) -> Call[w.UpkeepDone]:
    return Call("PUT", f"/api/upkeep/done/{number}/photo", w.UpkeepDone, content=picture)


def upkeep_photo(number: int) -> Call[bytes]:
    return Call("GET", f"/api/upkeep/done/{number}/photo", bytes)


def upkeep_log(machine: str = "") -> Call[list[w.UpkeepLogEntry]]:
    return Call("GET", "/api/upkeep/log", list[w.UpkeepLogEntry], params=_of(machine))


def upkeep_lateness() -> Call[list[w.TaskLateness]]:
    return Call("GET", "/api/upkeep/lateness", list[w.TaskLateness])


def upkeep_parts(machine: str = "") -> Call[list[w.FittedPart]]:
    return Call("GET", "/api/upkeep/parts", list[w.FittedPart], params=_of(machine))


def calibration(machine: str = "") -> Call[list[w.CalibrationTrend]]:
    return Call("GET", "/api/upkeep/calibration", list[w.CalibrationTrend], params=_of(machine))


def fleet_state() -> Call[list[wf.FleetOfModel]]:
    return Call("GET", "/api/fleet-state", list[wf.FleetOfModel])


def want_firmware(asked: wf.FirmwareWish) -> Call[RequestDone]:
    return Call("PUT", "/api/fleet-state/firmware", RequestDone, body=asked)


def ask_settings(model: str = "", machine: str = "") -> Call[wf.AskedSettings]:
    """Ask the machines that have nothing to do now what they have stored."""
    params = {name: value for name, value in (("model", model), ("machine", machine)) if value}
    return Call("POST", "/api/fleet-state/settings", wf.AskedSettings, params=params)


def _of(machine: str) -> dict[str, str]:
    return {"machine": machine} if machine else {}
