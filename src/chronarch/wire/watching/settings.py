"""What the shop has decided about cameras."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from chronarch.wire.common import Wire

Cores = Annotated[float, Field(ge=0.02, le=64, allow_inf_nan=False)]


class Watching(Wire):
    camera_budget: Cores = 0.5
    """The share of one processor core that the cameras of a tender may take; 2 is two cores."""


class WatchingUpdate(Wire):
    """What may be changed; what is left out stays."""

    camera_budget: Cores | None = None
