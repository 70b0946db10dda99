"""Which frames are kept, and for how long: all of an hour, one a minute of a day, one a layer of a month, the first and
the last of a build for ever; those taken for a film until it is made."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import StrEnum


class FrameReason(StrEnum):
    """Why a frame is kept; of several reasons at once, the one that comes first here."""

    FAULT = "fault"
    SUSPICION = "suspicion"
    PAUSE = "pause"
    START = "start"
    END = "end"
    VERDICT = "verdict"
    LAYER = "layer"
    FILM = "film"
    TIME = "time"


HOUR, DAY, MONTH = timedelta(hours=1), timedelta(days=1), timedelta(days=30)
FOR_EVER = datetime(9999, 1, 1, tzinfo=UTC)
SPECIAL = frozenset(FrameReason) - {FrameReason.LAYER, FrameReason.TIME}
"""Kept for a month wherever they come. A frame for a film is among them, until its film is made."""


@dataclass(frozen=True)
class KeptPlace:
    """Where in a build a frame was taken; `build` is None where there was none."""

    build: int | None = None
    layer: int = 0
    command: int = 0


@dataclass
class Thinning:
    """What was kept last of one camera, which decides how long the next one is kept."""

    build: int | None = None
    layer: int = -1
    minute: int = -1

    def keep_until(self, at: datetime, place: KeptPlace, why: FrameReason) -> datetime:
        """Until when a frame of the camera is kept, shop time. Frames come in the order in which they were taken."""
        minute = int(at.timestamp() // 60)
        new_build = place.build is not None and place.build != self.build
        new_layer = place.build is not None and (new_build or place.layer != self.layer)
        new_minute = minute != self.minute
        if place.build is not None:
            self.build, self.layer = place.build, place.layer
        self.minute = minute
        if new_build or (why is FrameReason.END and place.build is not None):
            return FOR_EVER
        if new_layer or why in SPECIAL:
            return at + MONTH
        return at + (DAY if new_minute else HOUR)


@dataclass(frozen=True)
class ShopFigures:
    """What keeping frames depends on: how many cameras look at machines and at rooms, the bytes of a frame, the share
    of time that machines work (0 to 1), layers an hour while they work, and builds of all machines a day."""

    at_machines: int
    at_rooms: int
    frame_bytes: float
    working: float
    layers_per_h: float
    builds_per_day: float
    cameras_per_machine: float = 1.0


@dataclass(frozen=True)
class KeepingCost:
    """Bytes that kept frames come to: those that come and go, once a month has passed, and those that stay, for each
    year."""

    lasting: float
    for_ever_a_year: float


def keeping_cost(every_s: float, shop: ShopFigures) -> KeepingCost:
    """What it costs to keep a frame of each camera every `every_s` shop seconds (of a machine: while it works), and the
    frames of layers and of special moments."""
    by_time_h = 3600 / every_s
    layers_h = shop.layers_per_h * shop.working
    an_hour = by_time_h * shop.working + layers_h
    a_day = min(60.0, by_time_h) * shop.working * 23
    a_month = layers_h * 24 * 29
    rooms = shop.at_rooms * (by_time_h + min(60.0, by_time_h) * 23)
    frames = shop.at_machines * (an_hour + a_day + a_month) + rooms
    stays = 2 * shop.builds_per_day * 365 * shop.cameras_per_machine
    return KeepingCost(frames * shop.frame_bytes, stays * shop.frame_bytes)
