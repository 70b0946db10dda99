"""What is printed with: densities, temperatures and the weight of a length of filament."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Material:
    """What is printed with: density in g/cm³, usual temperatures in °C, filament diameter in mm."""

    name: str
    density_g_cm3: float
    nozzle_c: float = 205.0
    bed_c: float = 60.0
    diameter_mm: float = 1.75

    def grams(self, filament_mm: float) -> float:
        """The mass of a length of filament: pi/4 d² x length x density, with 1 cm³ = 1000 mm³."""
        return 3.141592653589793 / 4 * self.diameter_mm**2 * filament_mm * self.density_g_cm3 / 1000


MATERIALS = {
    m.name: m
    for m in (
        Material("PLA", 1.24, 205, 60),
        Material("PETG", 1.27, 235, 80),
        Material("ABS", 1.04, 245, 100),
        Material("ASA", 1.07, 250, 100),
        Material("TPU", 1.21, 225, 45),
        Material("PA", 1.14, 255, 80),
        Material("PC", 1.20, 270, 105),
    )
}
"""Typical densities and temperatures, as filament data sheets give them."""


def grams(material: str, filament_mm: float) -> float:
    """Grams of `filament_mm` of a material by name; a material not known is taken for PLA's density."""
    return MATERIALS.get(material.upper(), MATERIALS["PLA"]).grams(filament_mm)
