"""Requests for what hands do at machines and running builds."""

from __future__ import annotations

from chronarch.client.requests import Call, at, some
from chronarch.core.hands import Action
from chronarch.wire import hands as wh
from chronarch.wire import work as ww


def do(name: str, action: Action) -> Call[wh.Did]:
    """Have a machine do something; answers once it has."""
    return Call(
        "POST",
        at("machines", name, "do"),
        wh.Did,
        content=wh.action.dump_json(action, exclude_none=True),
        headers={"Content-Type": "application/json"},
    )


def log(name: str, after: int = 0, limit: int = 500, search: str = "") -> Call[list[wh.LogLine]]:
    params = some(after=after, limit=limit, search=search)
    return Call("GET", at("machines", name, "log"), list[wh.LogLine], params=params)


def level_maps(name: str, limit: int = 20) -> Call[list[wh.BedLevel]]:
    return Call("GET", at("machines", name, "level-maps"), list[wh.BedLevel], params=some(limit=limit))


def pause_before(build: int, layer: int) -> Call[ww.Build]:
    return Call("PUT", f"/api/builds/{build}/pauses/{layer}", ww.Build)


def no_pause_before(build: int, layer: int) -> Call[ww.Build]:
    return Call("DELETE", f"/api/builds/{build}/pauses/{layer}", ww.Build)


def filament_change(build: int, reason: str = "") -> Call[ww.Build]:
    return Call("POST", f"/api/builds/{build}/filament-change", ww.Build, body=ww.Because(reason=reason))


def preview_skip(build: int, objects: list[str]) -> Call[wh.SkipPlan]:
    return Call("POST", f"/api/builds/{build}/skip/preview", wh.SkipPlan, body=wh.Skip(objects=objects))


def skip(build: int, objects: list[str]) -> Call[wh.SkipPlan]:
    return Call("POST", f"/api/builds/{build}/skip", wh.SkipPlan, body=wh.Skip(objects=objects))


def undo_skip(build: int, name: str) -> Call[ww.Build]:
    return Call("DELETE", at("builds", build, "skip", name), ww.Build)


def changes(build: int) -> Call[list[wh.Change]]:
    return Call("GET", f"/api/builds/{build}/changes", list[wh.Change])


def build_log(build: int) -> Call[bytes]:
    return Call("GET", f"/api/builds/{build}/log", bytes)
