"""What a machine has done in its life: what upkeep counts by."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from chronarch.core.machines.materials import Materials
from chronarch.core.upkeep.due import weight_of


@dataclass(frozen=True)
class Odometer:
    """Hours of warming and building, builds that ended, and grams laid by material."""

    hours: float = 0.0
    builds: int = 0
    grams: Mapping[str, float] = field(default_factory=dict)

    def metres(self, materials: Materials) -> float:
        """Metres of filament; a metre of an abrasive material counts for several."""
        return sum(laid / materials.grams(name, 1000.0) * weight_of(name) for name, laid in self.grams.items())

    def since(self, before: Odometer) -> Odometer:
        """What came after an earlier standing. What was taken back since counts as nothing."""
        names = {**before.grams, **self.grams}
        more = {name: self.grams.get(name, 0.0) - before.grams.get(name, 0.0) for name in names}
        return Odometer(
            max(0.0, self.hours - before.hours),
            max(0, self.builds - before.builds),
            {name: laid for name, laid in more.items() if laid > 0.05},
        )
