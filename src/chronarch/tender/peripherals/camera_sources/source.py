"""What every way to get pictures has in common, and how a camera fails."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from datetime import datetime

from chronarch.core.clock import Clock
from chronarch.core.watching.camera_address import CameraAddress
from chronarch.core.watching.camera_settings import CameraSettings
from chronarch.tender.peripherals.reach import ANSWER_S, NoDevice, find_host

NEXT_S = 10.0
"""How long a stream may take from one frame to the next; `ANSWER_S` is how long a camera may take to answer."""
__all__ = ["ANSWER_S", "LARGEST", "NEXT_S", "CameraFailed", "CameraSetup", "Shot", "Source"]
LARGEST = 4_000_000
"""Bytes of a frame."""


class CameraFailed(Exception):
    """There is no picture; the message says what failed and what to do, after the camera's address."""


@dataclass(frozen=True)
class Shot:
    """A picture as the camera gave it: a JPEG, and when it was taken, real and shop time."""

    jpeg: bytes
    taken_at: datetime
    at: datetime


@dataclass(frozen=True)
class CameraSetup:
    """A camera to be asked, with its secrets."""

    address: CameraAddress
    settings: CameraSettings
    clock: Clock
    keep_away: tuple[str, int] = ("", 0)
    """Host and port of the service, where there is no camera."""

    async def host(self) -> str:
        """The numeric address to connect to. Raises CameraFailed."""
        try:
            return await find_host(self.address.host, self.address.port, self.keep_away, "camera")
        except NoDevice as error:
            raise CameraFailed(str(error)) from None

    def shot(self, jpeg: bytes, took: datetime | None = None) -> Shot:
        """A picture that was taken just now, or at a real time."""
        real, shop = self.clock.real_now(), self.clock.now()
        taken = min(took or real, real)
        return Shot(jpeg, taken, shop - (real - taken) * self.clock.rate)


class Source(ABC):
    """One connection to a camera. Only one `shot` is asked at a time."""

    def __init__(self, setup: CameraSetup) -> None:
        self.setup = setup

    @abstractmethod
    async def shot(self, next_in_s: float) -> Shot:
        """The newest picture, one that was not given before. `next_in_s` is when the one after it will be wanted: a
        stream that is not wanted for long is closed meanwhile. Raises CameraFailed."""

    @abstractmethod
    async def close(self) -> None:
        """Hang up."""
