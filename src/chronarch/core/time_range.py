"""A time in the future, and how sure it is."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True)
class TimeRange:
    """An expected time. In one of ten futures it is earlier than `early`, in one of ten later than `late`."""

    early: datetime
    likely: datetime
    late: datetime
