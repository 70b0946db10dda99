"""`chronarch spools`."""

from __future__ import annotations

from decimal import Decimal

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_csv, show_json, show_table
from chronarch.cli.plain import AMOUNT, FINITE, say
from chronarch.client import requests as calls
from chronarch.wire.machines import spools as ws


@click.group()
def spools() -> None:
    """Spools: what is left on each, and where it is."""


@spools.command("list")
@click.option("--all", "finished", is_flag=True, help="Finished ones too.")
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def list_spools(service: Service, finished: bool, as_json: bool, as_csv: bool) -> None:
    """Spools, by material and colour."""
    found = service.all(calls.spools(finished))
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(found)
    rows = [
        [str(s.id), s.material, s.colour, f"{s.grams_left:.0f} g", f"{s.grams_full:.0f} g",
         "finished" if s.finished else f"on {s.machine}" if s.machine else s.place or "on the shelf"]
        for s in found
    ]  # fmt: skip
    show_table(("Id", "Material", "Colour", "Left", "Full", "Where"), rows,
               "No spool is counted. Add one with `chronarch spools add PLA teal`.")  # fmt: skip


@spools.command("add")
@click.argument("material")
@click.argument("colour")
@click.option("--grams", type=FINITE, default=1000.0, show_default=True, help="Of a full one.")
@click.option("--left", type=FINITE, help="What is left on it; all of it without this.")
@click.option("--place", default="")
@click.option("--price", type=AMOUNT, help="What it cost when full, like 24.90; the material's price holds without.")
@pass_service
def add(
    service: Service, material: str, colour: str, grams: float, left: float | None, place: str, price: Decimal | None
) -> None:
    """Add a spool."""
    order = ws.NewSpool(material=material, colour=colour, grams_full=grams, grams_left=left, place=place, price=price)
    s = service.do(calls.add_spool(order))
    say(f"Spool {s.id}: {s.colour} {s.material}, {s.grams_left:.0f} g.")


@spools.command("price")
@click.argument("number", type=int)
@click.argument("price", type=AMOUNT)
@pass_service
def price(service: Service, number: int, price: Decimal) -> None:
    """Say what a spool cost when it was full. Costs of what was made from it are worked out anew."""
    s = service.do(calls.change_spool(number, ws.SpoolUpdate(price=price)))
    say(f"Spool {s.id}: {s.colour} {s.material}, {s.price} for {s.grams_full:.0f} g.")


@spools.command("weigh")
@click.argument("number", type=int)
@click.argument("grams", type=FINITE)
@pass_service
def weigh(service: Service, number: int, grams: float) -> None:
    """Correct what is left on a spool, in grams without the reel."""
    s = service.do(calls.change_spool(number, ws.SpoolUpdate(grams_left=grams)))
    say(f"Spool {s.id}: {s.grams_left:.0f} g of {s.colour} {s.material}.")


@spools.command("load")
@click.argument("number", type=int)
@click.argument("machine")
@click.option("--tool", default=0, show_default=True)
@pass_service
def load(service: Service, number: int, machine: str, tool: int) -> None:
    """Say that a spool is on a machine now; what was there goes back on the shelf."""
    s = service.do(calls.load_spool(number, machine, tool))
    say(f"{s.machine} has {s.colour} {s.material}, {s.grams_left:.0f} g.")


@spools.command("finish")
@click.argument("number", type=int)
@pass_service
def finish(service: Service, number: int) -> None:
    """Say that a spool is empty."""
    s = service.do(calls.change_spool(number, ws.SpoolUpdate(finished=True)))
    say(f"Spool {s.id} is finished.")


@spools.command("history")
@click.argument("number", type=int)
@json_option
@pass_service
def history(service: Service, number: int, as_json: bool) -> None:
    """What was taken from a spool, and what weighing showed."""
    found = service.do(calls.spool_changes(number))
    if as_json:
        return show_json(found)
    rows = [[clock_time(c.at), f"{c.grams:+.1f} g", c.text, c.by] for c in found]
    show_table(("When", "Filament", "Why", "By"), rows, "Nothing was taken from it yet.")
