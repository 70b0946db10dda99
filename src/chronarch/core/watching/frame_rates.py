"""How often frames are taken: what each camera is asked for, held to a budget of the processor.

When cameras cost more than their budget, all rates fall together; they rise again slowly. A camera that nobody looks at
never falls below `SELDOM` of its rate, so that it is always seen to be alive.
"""

from __future__ import annotations

from dataclasses import dataclass

UNSEEN_EVERY_S = 5.0
"""How often a camera that nobody looks at is asked, real seconds."""
LEAST, SELDOM = 0.02, 0.25
RISE = 1.15


@dataclass
class FrameRates:
    """`budget` is the share of one processor core that cameras may take. `factor` is what all rates are multiplied
    with now, up to 1."""

    budget: float
    factor: float = 1.0
    used: float = 0.0
    """The share of a core that was measured last."""

    def measured(self, used: float) -> None:
        """Take in the share of a core that cameras took over the last second or so."""
        self.used = used
        if used > self.budget:
            self.factor = max(LEAST, self.factor * max(0.5, self.budget / used))
        elif used < 0.85 * self.budget:
            self.factor = min(1.0, self.factor * RISE)

    def every_s(self, looked_at: float) -> float:
        """Seconds from one frame of a camera to the next. `looked_at` is the frames a second that somebody wants, 0
        when nobody looks."""
        unseen = 1 / UNSEEN_EVERY_S
        return 1 / max(looked_at * self.factor, unseen * max(self.factor, SELDOM))
