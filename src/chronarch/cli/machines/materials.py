"""`chronarch materials`: what is printed with."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import show_json, show_table
from chronarch.cli.plain import FINITE, say
from chronarch.client import requests
from chronarch.core.machines.materials import Material


@click.group()
def materials() -> None:
    """Materials: what they weigh, and how warm they want it."""


@materials.command("list")
@json_option
@pass_service
def list_materials(service: Service, as_json: bool) -> None:
    """All that are known, with whose figures hold."""
    found = service.do(requests.materials())
    if as_json:
        return show_json(found)
    rows = [
        [m.name, f"{m.density_g_cm3:g} g/cm³", f"{m.nozzle_c:g} °C", f"{m.bed_c:g} °C", f"{m.diameter_mm:g} mm",
         "the shop's own" if one.own else "usual"]
        for one in found for m in (one.material,)
    ]  # fmt: skip
    show_table(("Material", "Density", "Nozzle", "Bed", "Filament", "Figures"), rows, "")
    return None


@materials.command("set")
@click.argument("name")
@click.option("--density", type=FINITE, help="g/cm³")
@click.option("--nozzle", type=FINITE, help="°C")
@click.option("--bed", type=FINITE, help="°C")
@click.option("--diameter", type=FINITE, help="Of the filament, mm.")
@pass_service
def set_material(service: Service, name: str, density: float | None, nozzle: float | None, bed: float | None,
                 diameter: float | None) -> None:  # fmt: skip
    """Add a material, or give a known one other figures; what is not said stays. Builds that ended keep their
    weights."""
    known = {one.material.name.casefold(): one.material for one in service.do(requests.materials())}
    kept = known.get(name.casefold())
    if kept is None and density is None:
        raise click.UsageError(f"{name} is new here; give its --density in g/cm³, as its data sheet has it.")
    given = {"density_g_cm3": density, "nozzle_c": nozzle, "bed_c": bed, "diameter_mm": diameter}
    said: dict[str, Any] = {field: value for field, value in given.items() if value is not None}
    m = service.do(requests.put_material(replace(kept or Material(name, density or 1.0), **said)))
    say(f"{m.name}: {m.density_g_cm3:g} g/cm³, nozzle {m.nozzle_c:g} °C, bed {m.bed_c:g} °C.")


@materials.command("remove")
@click.argument("name")
@pass_service
def remove(service: Service, name: str) -> None:
    """Forget the shop's own figures of a material; a usual one is as usual again."""
    say(service.do(requests.remove_material(name)).text)
