"""Calls that have machines do things."""

from __future__ import annotations

from chronarch.client.call import Call, at, some
from chronarch.core.control.actions import Action
from chronarch.wire.common import ReasonGiven, RequestDone
from chronarch.wire.control import actions as wh
from chronarch.wire.machines import machine as wm
from chronarch.wire.machines.bed_mesh import BedLevel
from chronarch.wire.orders import builds as ww


def take_out(name: str, reason: str = "") -> Call[RequestDone]:
    return Call("POST", at("machines", name, "take-out"), RequestDone, body=wm.OutOfWork(reason=reason))


def put_back(name: str) -> Call[RequestDone]:
    return Call("POST", at("machines", name, "put-back"), RequestDone)


def emergency_stop(name: str) -> Call[RequestDone]:
    return Call("POST", at("machines", name, "emergency-stop"), RequestDone)


def pause(number: int, reason: str = "") -> Call[ww.Build]:
    return Call("POST", f"/api/builds/{number}/pause", ww.Build, body=ReasonGiven(reason=reason))


def resume(number: int) -> Call[ww.Build]:
    return Call("POST", f"/api/builds/{number}/resume", ww.Build)


def stop(number: int, reason: str = "") -> Call[ww.Build]:
    return Call("POST", f"/api/builds/{number}/stop", ww.Build, body=ReasonGiven(reason=reason))


def act(name: str, action: Action) -> Call[wh.ActionDone]:
    """Have a machine do something; answers once it has."""
    return Call("POST", at("machines", name, "do"), wh.ActionDone, body=action)


def line_log(name: str, after: int = 0, limit: int = 500, search: str = "") -> Call[list[wh.LogLine]]:
    params = some(after=after, limit=limit, search=search)
    return Call("GET", at("machines", name, "log"), list[wh.LogLine], params=params)


def level_maps(name: str, limit: int = 20) -> Call[list[BedLevel]]:
    return Call("GET", at("machines", name, "level-maps"), list[BedLevel], params=some(limit=limit))


def pause_before(build: int, layer: int) -> Call[ww.Build]:
    return Call("PUT", f"/api/builds/{build}/pauses/{layer}", ww.Build)


def no_pause_before(build: int, layer: int) -> Call[ww.Build]:
    return Call("DELETE", f"/api/builds/{build}/pauses/{layer}", ww.Build)


def filament_change(build: int, reason: str = "") -> Call[ww.Build]:
    return Call("POST", f"/api/builds/{build}/filament-change", ww.Build, body=ReasonGiven(reason=reason))


def preview_skip(build: int, objects: list[str]) -> Call[wh.SkipPlan]:
    return Call("POST", f"/api/builds/{build}/skip/preview", wh.SkipPlan, body=wh.SkipRequest(objects=objects))


def skip(build: int, objects: list[str]) -> Call[wh.SkipPlan]:
    return Call("POST", f"/api/builds/{build}/skip", wh.SkipPlan, body=wh.SkipRequest(objects=objects))


def undo_skip(build: int, name: str) -> Call[ww.Build]:
    return Call("DELETE", at("builds", build, "skip", name), ww.Build)


def build_changes(build: int) -> Call[list[wh.BuildChange]]:
    return Call("GET", f"/api/builds/{build}/changes", list[wh.BuildChange])


def build_log(build: int) -> Call[bytes]:
    return Call("GET", f"/api/builds/{build}/log", bytes)
