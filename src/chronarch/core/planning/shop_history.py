"""What the forecast draws from: the shop's own past, or the usual values where that is short."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

FEW = 5
"""With fewer values of the past than this, the usual values are used."""
USUAL_PACES = (0.96, 0.98, 0.99, 1.0, 1.0, 1.0, 1.01, 1.02, 1.04, 1.08)
USUAL_DELAYS_S = (120.0, 240.0, 360.0, 540.0, 900.0, 1800.0)
USUAL_SCRAP = 0.04


@dataclass(frozen=True)
class ShopHistory:
    """What the shop's own past shows. `paces`: by machine model, real over expected time of completed builds;
    `delays_s`: staffed seconds from a bed being ready until it was clear; `scrap`: the share of builds judged scrap."""

    paces: Mapping[str, Sequence[float]] = field(default_factory=dict)
    delays_s: Sequence[float] = ()
    scrap: float = USUAL_SCRAP

    def paces_of(self, model: str) -> Sequence[float]:
        found = self.paces.get(model, ())
        return found if len(found) >= FEW else USUAL_PACES

    def delays(self) -> Sequence[float]:
        return self.delays_s if len(self.delays_s) >= FEW else USUAL_DELAYS_S
