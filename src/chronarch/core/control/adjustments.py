"""What people have set of a running build."""

from __future__ import annotations

from dataclasses import dataclass, replace

from chronarch.core.control.actions import Adjust


@dataclass(frozen=True)
class BuildAdjustments:
    """What people have set of a running build: %, and mm from what the file says."""

    speed_pct: float = 100.0
    flow_pct: float = 100.0
    fan_pct: float | None = None
    z_offset_mm: float = 0.0

    def with_(self, a: Adjust) -> BuildAdjustments:
        given = {k: getattr(a, k) for k in self.__dataclass_fields__ if getattr(a, k) is not None}
        return replace(self, **given)
