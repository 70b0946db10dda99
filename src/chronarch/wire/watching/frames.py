"""Frames that are kept."""

from __future__ import annotations

from chronarch.core.watching.frame_keeping import FrameReason
from chronarch.wire.common import Time, Wire


class KeptFrame(Wire):
    """One kept frame; its picture is at `/api/frames/{number}`."""

    number: int
    camera: str
    """Empty when the camera has been removed."""
    at: Time
    """When it was taken."""
    why: FrameReason
    build: int | None = None
    layer: int = 0
    command: int = 0
    """Where in the build: the commands that the machine had acknowledged."""
    size: int
    """Bytes."""
