"""What has changed beyond chance."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from chronarch.core.ledger.change_point_kinds import ChangePointKind
from chronarch.wire.common import COMPOSED, Time, Wire


class ChangePoint(Wire):
    """One change: of what, since when, from which level to which, and how sure that is. `size` is a difference of
    shares, or a ratio less one; `low` to `high` holds the true one 19 times in 20."""

    id: int
    kind: ChangePointKind
    subject: str
    text: str
    unit: str
    """Of `before` and `after`: share, times, min or W."""
    since: Time
    before: float
    after: float
    counted_before: int
    counted_after: int
    size: float
    low: float
    high: float
    chance: float
    """How often chance alone shows as much in such a series."""
    builds: dict[str, str]
    """What `GET /api/builds` is asked for the builds since then."""
    found_at: Time
    over_at: Time | None
    seen_by: str
    seen_at: Time | None
    note: str


class ChangePointsReport(Wire):
    """What a pass found. `rate`: of the changes that are named, at most this share is expected to be chance."""

    looked_at: Time | None
    """When was looked last; null where nobody has looked yet."""
    looked_from: Time | None
    """From when on was looked."""
    series: int
    rate: float
    change_points: list[ChangePoint]


class ChangePointSeen(Wire):
    """What somebody says of a change."""

    note: Annotated[str, Field(max_length=300), COMPOSED] = ""
