"""The formats of set-up files: all of it as TOML, machines as CSV (RFC 4180), models and materials as JSON with a JSON
Schema (2020-12)."""

from __future__ import annotations

import csv
import io
import tomllib
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from pydantic import ValidationError

from chronarch.core.machines.materials import Material
from chronarch.core.machines.model import MachineModel
from chronarch.service.http.csv_rows import csv_rows
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import faults_of
from chronarch.wire.system import setup_file as w

SCHEMA_ID = "urn:chronarch:catalogue:1"

Kept = Mapping[str, w.MachinePart]
"""The machines there are, by name in small letters."""


def read_setup(asked: w.SetupText, kept: Kept) -> w.SetupDocument:
    """What a file says. Raises ApiProblem (422)."""
    try:
        return _READERS[asked.format](asked.text, kept)
    except ValidationError as error:
        raise ApiProblem(422, faults_of(error)) from None


def _read_toml(text: str, kept: Kept) -> w.SetupDocument:
    try:
        return w.SetupDocument.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise ApiProblem(422, f"The file is not TOML: {error}.") from None


def _read_machines(text: str, kept: Kept) -> w.SetupDocument:
    machines = []
    for number, row in csv_rows(text, w.MachineRow, ("name",)):
        try:
            machines.append(row.said(kept.get(row.name.casefold())))
        except ValueError as error:
            raise ApiProblem(422, f"Row {number} of the CSV, {row.name}: {error}") from None
    if not machines:
        raise ApiProblem(422, "The CSV has no row below its head; write a line for each machine.")
    return w.SetupDocument(machines=machines)


def _read_catalogue(text: str, kept: Kept) -> w.SetupDocument:
    found = w.Catalogue.model_validate_json(text)
    return w.SetupDocument(models=found.models, materials=found.materials)


_READERS: dict[w.SetupFormat, Callable[[str, Kept], w.SetupDocument]] = {
    w.SetupFormat.TOML: _read_toml,
    w.SetupFormat.CSV: _read_machines,
    w.SetupFormat.JSON: _read_catalogue,
}


def machines_csv(machines: Sequence[w.MachinePart]) -> str:
    """A head and a row for each; passwords are hidden."""
    out = io.StringIO()
    table = csv.DictWriter(out, list(w.MachineRow.model_fields), lineterminator="\r\n")
    table.writeheader()
    table.writerows(w.MachineRow.of(machine).model_dump() for machine in machines)
    return out.getvalue()


def catalogue_json(models: list[MachineModel], materials: list[Material]) -> str:
    """All models whole, and the shop's own materials."""
    return w.Catalogue(catalogue=1, models=models, materials=materials).model_dump_json(indent=2) + "\n"


def catalogue_schema() -> dict[str, Any]:
    """What a catalogue may hold."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": SCHEMA_ID,
        **w.Catalogue.model_json_schema(),
    }
