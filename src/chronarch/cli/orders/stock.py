"""`chronarch stock`."""

from __future__ import annotations

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests as calls
from chronarch.wire.orders.stock import StockCount


@click.group()
def stock() -> None:
    """Good pieces on the shelf that nobody has ordered."""


@stock.command("list")
@json_option
@pass_service
def list_stock(service: Service, as_json: bool) -> None:
    """What is in stock."""
    found = service.all(calls.stock())
    if as_json:
        return show_json(found)
    rows = [[s.part or s.file or "", f"{s.colour} {s.material}".strip(), str(s.pieces)] for s in found]
    show_table(("What", "Made of", "Copies"), rows, "The shelf is empty. What is made beyond an order comes here.")


@stock.command("count")
@click.argument("what")
@click.argument("pieces", type=int)
@click.option("--material", default="")
@click.option("--colour", default="")
@pass_service
def count(service: Service, what: str, pieces: int, material: str, colour: str) -> None:
    """Say how many of a part (or of a file, by its name in .gcode) are in stock."""
    where = {"file": what} if what.lower().endswith(".gcode") else {"part": what}
    order = StockCount.model_validate({**where, "pieces": pieces, "material": material, "colour": colour})
    service.do(calls.count_stock(order))
    say(f"{pieces} of {what} are on the shelf.")
