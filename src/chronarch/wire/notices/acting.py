"""Acting from a message."""

from __future__ import annotations

from chronarch.core.notices.kinds import NoticeAct
from chronarch.wire.common import Time, Wire


class ActPreview(Wire):
    """What a link of a message would do. `why_not` is empty when it still can."""

    act: NoticeAct
    text: str
    """What will happen, in words."""
    why_not: str = ""
    notice: int
    said: str
    """What the notice says."""
    at: Time
    machine: str = ""
    build: int | None = None
    person: str
    """In whose name."""
    has_picture: bool = False
