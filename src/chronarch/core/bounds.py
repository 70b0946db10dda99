"""Types for figures and texts that come from outside, with bounds: wide enough for every real value, finite, and safe
to store and to compute with. Tighter limits, such as a machine's own, are checked where they are known."""

from __future__ import annotations

from typing import Annotated

from annotated_types import Interval, Len

Number = Annotated[int, Interval(ge=1, le=2**31 - 1)]
"""A record's number."""
Counted = Annotated[int, Interval(ge=0, le=2**31 - 1)]
LayerNumber = Annotated[int, Interval(ge=1, le=10_000_000)]
LineNumber = Annotated[int, Interval(ge=0, le=2**31 - 1)]
Figure = Annotated[float, Interval(ge=-1e9, le=1e9)]
Mm = Annotated[float, Interval(ge=-100_000, le=100_000)]
Celsius = Annotated[float, Interval(ge=-1000, le=10_000)]
Percent = Annotated[float, Interval(ge=-10_000, le=10_000)]
Named = Annotated[str, Len(1, 300)]
"""The name of something that must exist."""
Word = Annotated[str, Len(0, 300)]
"""A short text that may be empty."""
