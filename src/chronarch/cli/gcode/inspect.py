"""`chronarch inspect`: read a file with no service at all."""

from __future__ import annotations

import mmap
from pathlib import Path

import click
from pydantic import ValidationError

from chronarch.cli.context import REFUSED, WRONG_USE, Service, fail, pass_service
from chronarch.cli.gcode.readings import show_layers, show_reading
from chronarch.cli.output import show_json, size_text
from chronarch.client import requests
from chronarch.core.errors import CoreError
from chronarch.core.machines.model import MachineModel
from chronarch.wire import gcode as w
from chronarch.wire.machines.model import machine_model


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--model", "model_name", help="Whose figures: a model's JSON file, or the name of one the service has.")
@click.option("--layers", "with_layers", is_flag=True, help="With the table of its layers.")
@click.option("--layer", type=int, help="With --png: this layer from above, not the whole part.")
@click.option("--png", type=click.Path(dir_okay=False, path_type=Path), help="Draw it into this file.")
@click.option("--json", "as_json", is_flag=True, help="Print the reading as JSON, with every layer.")
@pass_service
def inspect(service: Service, file: Path, model_name: str | None, with_layers: bool, layer: int | None,
            png: Path | None, as_json: bool) -> None:  # fmt: skip
    """Read a sliced file: time, layers, extents, filament, objects, and what stands against it. Needs no service."""
    from chronarch.core.gcode.analysis import analyse
    from chronarch.core.gcode.decompress import is_packed, unpack
    from chronarch.core.gcode.drawing import layer_scene, part_scene
    from chronarch.core.gcode.layers import layer_moves
    from chronarch.core.gcode.reader import as_bytes

    model = _model(service, model_name)
    try:
        with file.open("rb") as source:
            raw = mmap.mmap(source.fileno(), 0, access=mmap.ACCESS_READ) if file.stat().st_size else b""
            data = as_bytes(unpack(raw[:]) if is_packed(raw[:4]) else memoryview(raw))
        found = analyse(data, model)
    except CoreError as error:
        fail(f"{file.name}: {error}", REFUSED)
    reading = w.FileReading.of(found, "" if model_name is None else model.name)
    layers = list(found.layers)
    if png is not None:
        if layer is not None and not 1 <= layer <= len(layers):
            fail(f"{file.name} has layers 1 to {len(layers)}; {layer} is none of them.", WRONG_USE)
        scene = (
            part_scene(data, found.index, model, file.name, found.objects)
            if layer is None
            else layer_scene(layer_moves(data, found.index, layer, model), model, found.objects,
                             f"{file.name}, layer {layer} of {len(layers)}, z {layers[layer - 1].z_mm:.2f} mm")
        )  # fmt: skip
        png.write_bytes(scene.png())
    if as_json:
        return show_json(w.ReadingWith(reading=reading, layer_table=layers))
    show_reading(file.name, reading, [("Size", size_text(file.stat().st_size)), ("Drawn", png.name if png else "")])
    if with_layers:
        show_layers(layers)
    return None


def _model(service: Service, name: str | None) -> MachineModel:
    """The figures to read by: a file's, the service's, or the reference."""
    if name is None:
        return MachineModel("reference")
    path = Path(name)
    if path.exists():
        try:
            return machine_model.validate_json(path.read_text())
        except (ValidationError, UnicodeDecodeError) as error:
            fail(
                f"{name} is no model: {str(error).splitlines()[0]}. `chronarch models show NAME --json` prints one.",
                WRONG_USE,
            )
    found = next((m for m in service.do(requests.models()) if m.name.lower() == name.lower()), None)
    if found is None:
        fail(
            f"There is neither a file {name!r} nor a model of that name; `chronarch models list` shows all.", WRONG_USE
        )
    assert found is not None
    return found
