"""What the watch does on labelled builds that it was not tuned on."""

from __future__ import annotations

from chronarch.core.watching.carefulness import CurvePoint

MEASURED = (
    CurvePoint(0.8, 0.076, 0.83, 0.7, 240.0),
)  # fmt: skip
