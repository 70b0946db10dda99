"""What is printed with: densities, temperatures and the weight of a length of filament."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from math import pi
from typing import Annotated

from annotated_types import Interval, Len

from chronarch.core.bounds import Label, check_labels

HeaterC = Annotated[float, Interval(ge=0, le=500)]


@dataclass(frozen=True)
class Material:
    """What is printed with: density in g/cm³, usual temperatures in °C, filament diameter in mm."""

    name: Annotated[Label, Len(1, 60)]
    density_g_cm3: Annotated[float, Interval(ge=0.1, le=20)]
    nozzle_c: HeaterC = 205.0
    bed_c: HeaterC = 60.0
    diameter_mm: Annotated[float, Interval(ge=0.5, le=5)] = 1.75

    def __post_init__(self) -> None:
        check_labels(self, "name")
        if not self.name.strip():
            raise ValueError("a material has a name, such as PLA")

    def grams(self, filament_mm: float) -> float:
        """The mass of a length of filament: pi/4 d² x length x density, with 1 cm³ = 1000 mm³."""
        return pi / 4 * self.diameter_mm**2 * filament_mm * self.density_g_cm3 / 1000


class Materials(Mapping[str, Material]):
    """Materials by name, whatever its case."""

    def __init__(self, *several: Iterable[Material]) -> None:
        """What comes later stands in place of what has the same name."""
        self._by_name = {one.name.casefold(): one for some in several for one in some}

    def __getitem__(self, name: str) -> Material:
        return self._by_name[name.casefold()]

    def __iter__(self) -> Iterator[str]:
        return iter([one.name for one in self._by_name.values()])

    def __len__(self) -> int:
        return len(self._by_name)

    def __hash__(self) -> int:
        return hash(frozenset(self._by_name.values()))

    def grams(self, material: str, filament_mm: float) -> float:
        """Grams of `filament_mm` of a material by name; one that is not known is taken for PLA."""
        return (self.get(material) or self["PLA"]).grams(filament_mm)


USUAL_MATERIALS = Materials(
    (
        Material("PLA", 1.24, 205, 60),
        Material("PETG", 1.27, 235, 80),
        Material("ABS", 1.04, 245, 100),
        Material("ASA", 1.07, 250, 100),
        Material("TPU", 1.21, 225, 45),
        Material("PA", 1.14, 255, 80),
        Material("PC", 1.20, 270, 105),
    )
)
"""Typical densities and temperatures, as filament data sheets give them: what holds where a shop has said nothing."""


def grams(material: str, filament_mm: float) -> float:
    """Grams of a length of a material with its usual density."""
    return USUAL_MATERIALS.grams(material, filament_mm)
