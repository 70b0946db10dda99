"""`chronarch models`: what machines of one make have in common."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import IO

import click

from chronarch.cli.context import REFUSED, Service, fail, json_option, pass_service
from chronarch.cli.output import show_facts, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.machines.model import MachineModel
from chronarch.wire.machines.model import machine_model


@click.group()
def models() -> None:
    """Models of machine and their figures."""


@models.command("list")
@json_option
@pass_service
def list_models(service: Service, as_json: bool) -> None:
    """All models by name."""
    found = service.do(requests.models())
    if as_json:
        return show_json(found)
    paces = {p.model: p for p in service.do(requests.paces())}
    rows = [
        [
            m.name,
            _volume(m),
            f"{m.acceleration_mm_s2:g} mm/s²",
            m.cornering,
            f"{m.nozzle_ceiling_c:.0f} / {m.bed_ceiling_c:.0f} °C",
            f"{paces[m.name].pace:.2f} ({paces[m.name].builds} builds)" if m.name in paces else "",
        ]
        for m in found
    ]
    show_table(
        ("Model", "Volume", "Acceleration", "Cornering", "Ceilings", "Learned pace"), rows, "There are no models."
    )
    return None


@models.command("show")
@click.argument("name")
@json_option
@pass_service
def show_model(service: Service, name: str, as_json: bool) -> None:
    """One model; its JSON is what `inspect --model` and `models add` take."""
    m = next((m for m in service.do(requests.models()) if m.name.lower() == name.lower()), None)
    if m is None:
        fail(f"There is no model {name!r}; `chronarch models list` shows all.", REFUSED)
    if as_json:
        return show_json(m)
    show_facts([(key.replace("_", " "), _text(value)) for key, value in asdict(m).items()])
    return None


def _volume(model: MachineModel) -> str:
    return " x ".join(f"{v:g}" for v in model.volume_mm) + " mm"


def _text(value: object) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{k.replace('_', ' ')} {_text(v)}" for k, v in value.items())
    if isinstance(value, tuple | list):
        return (" " if all(isinstance(v, int | float) for v in value) else "; ").join(_text(v) for v in value)
    return f"{value:g}" if isinstance(value, float) else str(value).replace("\n", " | ")


@models.command("change")
@click.argument("path", type=click.File("r"))
@pass_service
def change_model(service: Service, path: IO[str]) -> None:
    """Change the figures of a model from its JSON; its files are read again. - reads standard input."""
    m = service.do(requests.change_model(machine_model.validate_json(path.read())))
    say(f"{m.name} has its new figures; its files are being read anew.")


@models.command("add")
@click.argument("path", type=click.File("r"), required=False)
@click.option("--like", help="Begin from one that is there, or from a reference model (see `models reference`).")
@click.option("--name", help="With --like: what it is called.")
@pass_service
def add_model(service: Service, path: IO[str] | None, like: str | None, name: str | None) -> None:
    """Add a model from its JSON (- reads standard input), or one like another."""
    if (path is None) == (like is None):
        raise click.UsageError("Give the JSON of a model, or --like another: one of both.")
    if path is not None:
        asked = machine_model.validate_json(path.read())
    else:
        known = [*service.do(requests.models()), *(one.model for one in service.do(requests.reference_models()))]
        same = next((one for one in known if like and one.name.lower() == like.lower()), None)
        if same is None:
            fail(f"There is no model {like!r} to begin from; `chronarch models reference` shows some.", REFUSED)
        asked = replace(same, name=name or same.name)
    m = service.do(requests.add_model(asked))
    say(f"{m.name} is added.")


@models.command("reference")
@json_option
@pass_service
def reference(service: Service, as_json: bool) -> None:
    """Machines by what they are, to begin a model from."""
    found = service.do(requests.reference_models())
    if as_json:
        return show_json(found)
    rows = [[one.model.name, _volume(one.model), f"{one.model.acceleration_mm_s2:g} mm/s²", one.what] for one in found]
    return show_table(("Model", "Volume", "Acceleration", "What it is"), rows, "")
