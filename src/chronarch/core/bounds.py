"""Types for figures and texts that come from outside, with bounds: wide enough for every real value, finite, and safe
to store and to compute with. Tighter limits, such as a machine's own, are checked where they are known."""

from __future__ import annotations

import unicodedata
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
NozzleMm = Annotated[float, Interval(gt=0.05, le=3.0)]
Named = Annotated[str, Len(1, 300)]
"""The name of something that must exist."""
Word = Annotated[str, Len(0, 300)]
"""A short text that may be empty."""
Label = Annotated[str, Len(0, 60)]
"""A short text that a person types: a material, a colour. `check_labels` keeps control characters out."""


def composed(text: str) -> str:
    """Text that looks the same is the same (Unicode's form NFC): names are compared byte by byte."""
    return text if text.isascii() else unicodedata.normalize("NFC", text)


def check_labels(value: object, *fields: str) -> None:
    """In the `__post_init__` of a frozen dataclass: bring texts into that form. Raises ValueError for control
    characters."""
    for name in fields:
        text = composed(getattr(value, name))
        if any(c < " " or c == "\x7f" for c in text):
            raise ValueError(f"{name} holds a character that cannot be shown")
        object.__setattr__(value, name, text)
