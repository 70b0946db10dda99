"""How results look: tables for people, JSON for programs, CSV where rows are records."""

from __future__ import annotations

import csv
import io
import json
import sys
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from pydantic import BaseModel
from pydantic_core import to_jsonable_python
from rich.box import SIMPLE_HEAD
from rich.console import Console
from rich.table import Table
from rich.text import Text

from chronarch.cli.plain import hand_over, say
from chronarch.core.machines.states import MachineState
from chronarch.core.plain import plain

STYLES = {
    MachineState.IDLE: "dim",
    MachineState.WARMING: "yellow",
    MachineState.BUILDING: "green",
    MachineState.PAUSED: "bold magenta",
    MachineState.COOLING: "cyan",
    MachineState.UNCLEARED: "bold yellow",
    MachineState.DOWN: "bold red",
    MachineState.SERVICE: "blue",
    MachineState.OFFLINE: "red",
}
RIGHT = frozenset(
    {"Id", "Progress", "Layer", "Nozzle", "Bed", "Size", "Layers", "Time", "Filament", "Copies", "Good", "Building"}
    | {
        "Waiting",
        "Line",
        "Z",
        "Height",
        "Rev",
        "Files",
        "Build",
        "Job",
        "Copy",
        "Scrap",
        "Unjudged",
        "Used",
        "Printing",
        "Share",
        "Elapsed",
        "Ends",
    }
    | {state.capitalize() for state in MachineState}
)


def console() -> Console:
    """A console as wide as the terminal; in a pipe, wide enough for any row."""
    return Console(width=None if sys.stdout.isatty() else 220, highlight=False)


def make_table(headings: Sequence[str], rows: Sequence[Sequence[str | Text]]) -> Table:
    table = Table(box=SIMPLE_HEAD, pad_edge=False, header_style="bold", show_edge=False)
    for heading in headings:
        table.add_column(heading, justify="right" if heading in RIGHT else "left", overflow="fold")
    for row in rows:
        table.add_row(*map(_cell, row))
    return table


def _cell(text: str | Text) -> Text:
    """A text as it is: markup in what people wrote is not interpreted."""
    if isinstance(text, str):
        return Text(plain(text))
    return text if plain(text.plain) == text.plain else Text(plain(text.plain), text.style)


def show_table(headings: Sequence[str], rows: Sequence[Sequence[str | Text]], empty: str) -> None:
    """Print rows, or what to do when there are none."""
    if rows:
        console().print(make_table(headings, rows))
    else:
        say(empty)


def show_facts(facts: Sequence[tuple[str, str | Text]]) -> None:
    """Print one line for each name and value; empty values are left out."""
    table = Table(box=None, show_header=False, pad_edge=False)
    table.add_column(style="dim")
    table.add_column(overflow="fold")
    for name, value in facts:
        if str(value):
            table.add_row(name, _cell(value))
    console().print(table)


def show_json(value: Any) -> None:
    say(json.dumps(to_jsonable_python(value), indent=2))


def show_csv(value: Sequence[BaseModel]) -> None:
    """RFC 4180 rows with a heading; nested values as JSON."""
    out = io.StringIO(newline="")
    table = csv.writer(out)
    rows = [v.model_dump(mode="json") for v in value]
    if rows:
        table.writerow(rows[0])
    for row in rows:
        table.writerow(json.dumps(v) if isinstance(v, dict | list) else "" if v is None else v for v in row.values())
    hand_over(out.getvalue().encode())


def state_text(state: MachineState) -> Text:
    return Text(state, style=STYLES[state])


def clock_time(at: datetime | None, now: datetime | None = None) -> str:
    """A time in the reader's own zone: the hour alone for today, with the day for other days."""
    if at is None:
        return ""
    local = at.astimezone()
    same_day = now is not None and local.date() == now.astimezone().date()
    return f"{local:%H:%M}" if same_day else f"{local:%a %d %b %H:%M}"


def duration(seconds: float | None) -> str:
    if seconds is None:
        return ""
    minutes = round(seconds / 60)
    if seconds < 59.5:
        return f"{seconds:.0f} s"
    return f"{minutes // 60} h {minutes % 60:02} min" if minutes >= 60 else f"{minutes} min"


def size_text(size: int) -> str:
    unit, name = next(((one, name) for one, name in ((1e9, "GB"), (1e6, "MB")) if size >= one), (1e3, "kB"))
    return f"{size / unit:.1f} {name}" if size else "0 kB"


def degrees(measured: float | None, asked: float | None) -> str:
    if measured is None:
        return ""
    return f"{measured:.0f} / {asked:.0f} °C" if asked else f"{measured:.0f} °C"
