"""Calls about cameras and what they see."""

from __future__ import annotations

from chronarch.client.call import Call, at, some
from chronarch.wire.common import RequestDone
from chronarch.wire.watching import cameras as w
from chronarch.wire.watching.camera_messages import Size
from chronarch.wire.watching.settings import Watching, WatchingUpdate


def cameras() -> Call[list[w.Camera]]:
    return Call("GET", "/api/cameras", list[w.Camera])


def camera(name: str) -> Call[w.Camera]:
    return Call("GET", at("cameras", name), w.Camera)


def add_camera(asked: w.NewCamera) -> Call[w.Camera]:
    return Call("POST", "/api/cameras", w.Camera, body=asked)


def change_camera(name: str, change: w.CameraChange) -> Call[w.Camera]:
    return Call("PATCH", at("cameras", name), w.Camera, body=change)


def remove_camera(name: str) -> Call[RequestDone]:
    return Call("DELETE", at("cameras", name), RequestDone)


def frame(name: str, size: Size = "full") -> Call[bytes]:
    """The newest frame, a JPEG."""
    return Call("GET", at("cameras", name, "frame"), bytes, params=some(size=size))


def try_camera(name: str) -> Call[w.CameraTried]:
    """Have a camera take a frame now; takes up to half a minute."""
    return Call("POST", at("cameras", name, "test"), w.CameraTried)


def try_new_camera(asked: w.CameraTest) -> Call[w.CameraTried]:
    """The same for one that is not set up yet."""
    return Call("POST", "/api/camera-test", w.CameraTried, body=asked)


def local_cameras(tender: str = "tender") -> Call[list[w.LocalCamera]]:
    """Cameras at a tender's own computer."""
    return Call("GET", "/api/local-cameras", list[w.LocalCamera], params=some(tender=tender))


def camera_work() -> Call[list[w.CameraWork]]:
    """What cameras cost each tender."""
    return Call("GET", "/api/camera-work", list[w.CameraWork])


def watching() -> Call[Watching]:
    """What the shop has decided about cameras."""
    return Call("GET", "/api/watching", Watching)


def change_watching(change: WatchingUpdate) -> Call[Watching]:
    return Call("PATCH", "/api/watching", Watching, body=change)
