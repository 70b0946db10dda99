"""Orders from CSV."""

from __future__ import annotations

from collections.abc import Sequence

from pydantic import ValidationError

from chronarch.core.orders.requirement import Requirement
from chronarch.service.http.csv_rows import csv_rows
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import faults_of
from chronarch.wire.orders import orders as w

LARGEST_CSV = 2_000_000


def orders_of_csv(text: str) -> list[w.NewOrder]:
    """Lines with the same order, customer and date are one order. Raises ApiProblem (422)."""
    found: dict[tuple[str, str, str], tuple[int, list[w.OrderRow]]] = {}
    for number, row in csv_rows(text, w.OrderRow, ("customer",)):
        found.setdefault((row.order, row.customer, row.due), (number, []))[1].append(row)
    if not found:
        raise ApiProblem(422, "The CSV has no row below its head; write a line for each part that is wanted.")
    return [_order_of(number, rows) for number, rows in found.values()]


def _order_of(number: int, rows: Sequence[w.OrderRow]) -> w.NewOrder:
    try:
        lines = [
            w.NewOrderLine(
                part=r.part or None, file=r.file or None, quantity=r.quantity, note=r.note,
                requirement=Requirement(material=r.material, colour=r.colour, nozzle_mm=r.nozzle_mm, pool=r.pool),
            )
            for r in rows
        ]  # fmt: skip
        return w.NewOrder.model_validate({"customer": rows[0].customer, "due": rows[0].due or None, "lines": lines})
    except ValidationError as error:
        raise ApiProblem(422, f"Row {number} of the CSV: {faults_of(error)}") from None
