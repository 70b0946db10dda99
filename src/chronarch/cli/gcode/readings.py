"""How a reading is shown: its figures, what stands against it, its layers."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from rich.text import Text

from chronarch.cli.output import console, duration, make_table, show_facts
from chronarch.cli.plain import say
from chronarch.core.gcode.contents import Layer, PrintedObject
from chronarch.core.gcode.preflight import Severity
from chronarch.core.gcode.splice import LineChange
from chronarch.core.machines.materials import USUAL_MATERIALS, Materials
from chronarch.wire import gcode as w

STYLES = {Severity.REFUSE: "bold red", Severity.WARNING: "yellow", Severity.NOTE: "dim"}


def span(box: tuple[tuple[float, float, float], tuple[float, float, float]] | None) -> str:
    if box is None:
        return ""
    low, high = box
    return ", ".join(f"{a} {p:.1f} to {q:.1f}" for a, p, q in zip("xyz", low, high, strict=True)) + " mm"


def filament_text(mm: float, material: str = "", materials: Materials = USUAL_MATERIALS) -> str:
    """Metres, cm³ and grams of a length of filament."""
    known = material if material in materials else "PLA"
    g = materials[known].grams(mm)
    cm3 = g / materials[known].density_g_cm3
    return f"{mm / 1000:.2f} m, {cm3:.1f} cm³, {g:.1f} g{'' if known == material else f' as {known}'}"


def reading_facts(r: w.FileReading, materials: Materials) -> list[tuple[str, str | Text]]:
    """What a reading says, name and value."""
    said = r.declared
    slicer = f" (the slicer says {duration(said.seconds)})" if said.seconds else ""
    parts = [("heating", r.heating_s), ("dwelling", r.dwell_s), ("homing and the like", r.other_s)]
    within = ", ".join(f"{duration(s)} {name}" for name, s in parts if s >= 1)
    kinds = [name for name, is_so in (("one spiral", r.spiral), ("object after object", r.by_object)) if is_so]
    height = f" of {r.layer_height_mm:g} mm" if r.layer_height_mm else ""
    asked = [("nozzle", r.nozzle_c), ("bed", r.bed_c), ("chamber", r.chamber_c)]
    declared = [said.material, f"{said.nozzle_mm:g} mm nozzle" if said.nozzle_mm else "", said.model, said.slicer]
    weigh = partial(filament_text, material=said.material, materials=materials)
    return [
        ("Read for", r.model or "reference figures"),
        ("Planned time", f"{duration(r.planned_s)}{slicer}"),
        ("", ""),
        ("  of it", within),
        ("Pauses", ", ".join(f"before layer {p.layer + 1} ({p.word})" for p in r.pauses)),
        ("Layers", f"{r.layers}{height}{f', {kinds[0]}' if kinds else ''}"),
        ("Lays", span(r.extents_mm)),
        ("Moves", span(r.travel_mm)),
        ("Filament", "; ".join(f"tool {t}: {weigh(mm)}" for t, mm in r.filament_mm.items())),
        ("Objects", _objects(r.objects)),
        ("Highest asked", ", ".join(f"{name} {c:.0f} °C" for name, c in asked if c)),
        ("Sliced for", ", ".join(x for x in declared if x)),
        ("Lines", f"{r.lines}, {r.commands} of them commands"),
        ("Unknown words", ", ".join(f"{k} ({n})" for k, n in r.unknown.items())),
    ]


def _objects(objects: Sequence[PrintedObject]) -> str:
    if not objects:
        return ""
    names = ", ".join(o.name for o in objects[:6])
    more = f" and {len(objects) - 6} more" if len(objects) > 6 else ""
    return f"{len(objects)}: {names}{more}"


def show_findings(findings: Sequence[w.Finding]) -> None:
    """What stands against a file, worst first."""
    if not findings:
        return
    rows: list[list[str | Text]] = [
        [
            Text("overruled" if f.overruled else f.severity, style="dim" if f.overruled else STYLES[f.severity]),
            str(f.line) if f.line else "",
            f.text + (f" — {f.overruled}" if f.overruled else ""),
            f.rule,
        ]
        for f in findings
    ]
    console().print()
    console().print(make_table(("Preflight", "Line", "Finding", "Rule"), rows))


def show_layers(layers: Sequence[Layer], most: int = 40) -> None:
    """The table of layers; a long one shows its first and last."""
    rows: list[list[str | Text]] = []
    for n, layer in enumerate(layers, 1):
        if len(layers) > most and n == most - 4:
            rows.append(["…", "", "", "", "", ""])
        if len(layers) <= most or n < most - 4 or n > len(layers) - 5:
            rows.append([str(n), f"{layer.z_mm:.2f} mm", f"{layer.height_mm:.2f} mm", f"{layer.seconds:.1f} s",
                         f"{layer.filament_mm:.0f} mm", str(layer.first_line)])  # fmt: skip
    if rows:
        console().print()
        console().print(make_table(("Layer", "Z", "Height", "Time", "Filament", "Line"), rows))


def show_reading(
    name: str, r: w.FileReading, more: Sequence[tuple[str, str | Text]] = (), materials: Materials = USUAL_MATERIALS
) -> None:
    show_facts([("File", name), *reading_facts(r, materials), *more])
    show_findings(r.findings)


def show_changes(changes: list[LineChange], most: int = 8, count: int = 0) -> None:
    """The first changes of `count`."""
    for c in changes[:most]:
        say(f"line {c.line}", dim=True)
        for sign, text, colour in (("-", c.before, "red"), ("+", c.after, "green")):
            lines = text.split("\n") if text else []
            for line in lines[:6]:
                say(f"  {sign} {line}", fg=colour)
            if len(lines) > 6:
                say(f"  {sign} … {len(lines) - 6} more lines", fg=colour)
    left = max(count, len(changes)) - most
    if left > 0:
        say("1 more place" if left == 1 else f"{left} more places", dim=True)
