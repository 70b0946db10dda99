"""`chronarch files edit`: edits of a sliced file, shown before they are made."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.gcode.readings import filament_text, show_changes, show_findings
from chronarch.cli.library.files import files
from chronarch.cli.output import duration, show_facts, show_json
from chronarch.cli.plain import FINITE, say
from chronarch.client import requests
from chronarch.core.gcode import edits


@files.group("edit")
def edit() -> None:
    """Edit a file: shows what would change; with --apply it becomes the newest revision."""


def _edit_options(command: Callable[..., Any]) -> Callable[..., Any]:
    for option in (
        click.option("--apply", "make", is_flag=True, help="Make it the newest revision."),
        click.option("--model", default="", help="Work it out with this model's figures."),
        click.option("--revision", type=int, help="Of an earlier revision."),
        json_option,
        click.argument("file"),
    ):
        command = option(command)
    return pass_service(command)


def _edit(
    service: Service, file: str, wish: edits.Edit, make: bool, model: str, revision: int | None, as_json: bool
) -> None:
    if make:
        f = service.do(requests.edit_file(file, wish, model, revision))
        if as_json:
            return show_json(f)
        say(f"{f.name} is at revision {f.revision} now: {duration(f.reading.planned_s)}.")
        return None
    p = service.do(requests.preview_edit(file, wish, model, revision))
    if as_json:
        return show_json(p)
    show_facts(
        [
            ("Edit", p.text),
            ("See to", Text(p.care, style="yellow")),
            ("Time", f"{duration(p.planned_before_s)} → {duration(p.planned_after_s)}"),
            ("Filament", f"{filament_text(p.filament_before_mm)} → {filament_text(p.filament_after_mm)}"),
            ("Changes", "1 place" if p.count == 1 else f"{p.count} places"),
        ]
    )
    show_changes(p.changes, 4, p.count)
    show_findings(p.findings)
    say("\nNothing is changed yet; --apply makes it the newest revision.")
    return None


@edit.command("set")
@click.option("--layer", type=int, default=1, show_default=True, help="From this layer on.")
@click.option("--nozzle", "nozzle_c", type=FINITE, help="°C")
@click.option("--bed", "bed_c", type=FINITE, help="°C")
@click.option("--fan", "fan_pct", type=FINITE, help="%")
@click.option("--speed", "speed_pct", type=FINITE, help="%")
@_edit_options
def edit_set(service: Service, layer: int, nozzle_c: float | None, bed_c: float | None, fan_pct: float | None,
             speed_pct: float | None, **rest: Any) -> None:  # fmt: skip
    """Set temperatures, fan or speed from a layer on."""
    _edit(service, wish=edits.SetFromLayer(layer, nozzle_c, bed_c, fan_pct, speed_pct), **rest)


@edit.command("pause")
@click.option("--layer", type=int, required=True, help="Before this layer.")
@click.option("--message", default="", help="What the machine shows.")
@_edit_options
def edit_pause(service: Service, layer: int, message: str, **rest: Any) -> None:
    """Pause before a layer until a person comes."""
    _edit(service, wish=edits.PauseAt(layer, message), **rest)


@edit.command("skip")
@click.option("--object", "name", required=True, help="The object, as `files show` names it.")
@_edit_options
def edit_skip(service: Service, name: str, **rest: Any) -> None:
    """Leave one object out."""
    _edit(service, wish=edits.SkipObject(name), **rest)


@edit.command("repeat")
@click.option("--copies", type=int, required=True, help="How many in all.")
@click.option("--gap", "gap_mm", type=FINITE, default=5.0, show_default=True, help="mm between them.")
@_edit_options
def edit_repeat(service: Service, copies: int, gap_mm: float, **rest: Any) -> None:
    """Lay everything several times across the bed, when it fits."""
    _edit(service, wish=edits.Repeat(copies, gap_mm), **rest)


@edit.command("start-from")
@click.option("--layer", type=int, required=True, help="The first layer to lay.")
@_edit_options
def edit_start_from(service: Service, layer: int, **rest: Any) -> None:
    """Begin at a layer, for a part whose lower layers stand on the bed already."""
    _edit(service, wish=edits.StartFrom(layer), **rest)


@edit.command("own-sections")
@click.option("--start/--no-start", default=True, show_default=True)
@click.option("--end/--no-end", default=True, show_default=True)
@_edit_options
def edit_own_sections(service: Service, start: bool, end: bool, **rest: Any) -> None:
    """Put the model's own start and end in place of the file's."""
    _edit(service, wish=edits.OwnSections(start, end), **rest)


@edit.command("lines")
@click.option("--first", type=int, required=True, help="The first line to replace, from 1.")
@click.option(
    "--last", type=int, help="The last; the first alone without it. One less than the first puts text in before."
)
@click.option("--text", required=True, help="What shall stand there; - reads standard input.")
@_edit_options
def edit_lines(service: Service, first: int, last: int | None, text: str, **rest: Any) -> None:
    """Put other text in place of lines."""
    words = sys.stdin.read() if text == "-" else text
    _edit(service, wish=edits.ReplaceLines(first, first if last is None else last, words), **rest)
