"""A camera's frame, as tenders keep it."""

from __future__ import annotations

from datetime import UTC, datetime

from chronarch.core.watching.frame_keeping import FrameReason
from chronarch.wire.watching.camera_messages import FrameHead, KeptAs

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
HEAD = FrameHead(camera="Anchor", size="full", taken_at=NINE, at=NINE, width=640, height=480)


def kept_as(layer: int) -> KeptAs:
    """As the picture of a layer of build 7."""
    return KeptAs(id="", why=FrameReason.LAYER, build=7, layer=layer, command=layer * 10)
