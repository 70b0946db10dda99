"""Which kind of address is asked in which way."""

from __future__ import annotations

from chronarch.core.watching.camera_address import Kind
from chronarch.tender.peripherals.camera_sources.http_camera import HttpCamera
from chronarch.tender.peripherals.camera_sources.source import CameraSetup, Source
from chronarch.tender.peripherals.camera_sources.video_camera import VideoCamera

SOURCES: dict[Kind, type[Source]] = {
    "http": HttpCamera,
    "https": HttpCamera,
    "rtsp": VideoCamera,
    "device": VideoCamera,
}


def make_source(setup: CameraSetup) -> Source:
    return SOURCES[setup.address.kind](setup)
