"""`chronarch inspect`: read a file with no service at all."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path

import click

from chronarch.cli.context import REFUSED, fail
from chronarch.cli.output import show_facts, size_text
from chronarch.cli.work import reading_facts
from chronarch.core.errors import NotGcode
from chronarch.core.fleet import MachineModel
from chronarch.core.gcode import Analysis, analyse
from chronarch.wire.work import FileReading

CHUNK = 1 << 20


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Print the reading as JSON, with every layer.")
def inspect(file: Path, as_json: bool) -> None:
    """Read a sliced file: time, layers, extents, filament. Needs no service."""
    try:
        with file.open("rb") as source:
            found = analyse(iter(lambda: source.read(CHUNK), b""), MachineModel("reference"))
    except NotGcode as error:
        fail(f"{file.name}: {error}", REFUSED)
        return
    reading = _reading(found)
    if as_json:
        layers = [asdict(layer) for layer in found.layers]
        click.echo(json.dumps({**reading.model_dump(mode="json"), "layer_table": layers}, indent=2))
    else:
        show_facts([("File", file.name), *reading_facts(reading), ("Size", size_text(file.stat().st_size))])


def _reading(found: Analysis) -> FileReading:
    figures = {k: v for k, v in asdict(found).items() if k not in ("plan", "layers")}
    return FileReading(**figures, layers=len(found.layers))
