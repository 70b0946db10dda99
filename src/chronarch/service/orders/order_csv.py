"""Orders from CSV (RFC 4180)."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence

from pydantic import ValidationError

from chronarch.core.orders.requirement import Requirement
from chronarch.service.problems import ApiProblem
from chronarch.wire.orders import orders as w

LARGEST_CSV = 2_000_000


def orders_of_csv(text: str) -> list[w.NewOrder]:
    table = csv.DictReader(io.StringIO(text, newline=""), strict=True)
    known = set(w.OrderRow.model_fields)
    unknown = [c for c in table.fieldnames or [] if c not in known]
    if unknown or "customer" not in (table.fieldnames or []):
        raise ApiProblem(422, f"The CSV's first row names its columns: customer and part or file, beside "
                           f"{', '.join(sorted(known - {'customer', 'part', 'file'}))}."
                           + (f" {unknown[0]!r} is none of them." if unknown else ""))  # fmt: skip
    found: dict[tuple[str, str, str], list[w.OrderRow]] = {}
    number = 1
    try:
        for number, fields in enumerate(table, 2):
            if None in fields or None in fields.values():
                raise ApiProblem(422, f"Row {number} of the CSV has not as many fields as its first row.")
            if not any(fields.values()):
                continue
            row = w.OrderRow.model_validate({k: v for k, v in fields.items() if v != ""})
            found.setdefault((row.order, row.customer, row.due), []).append(row)
        return [_order_of(rows) for rows in found.values()] or _nothing()
    except csv.Error as error:
        raise ApiProblem(422, f"The CSV cannot be read near row {number}: {error}.") from None
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        raise ApiProblem(
            422, f"Row {number} of the CSV: {where}: {first['msg'].removeprefix('Value error, ')}"
        ) from None


def _nothing() -> list[w.NewOrder]:
    raise ApiProblem(422, "The CSV has no row below its head; write a line for each part that is wanted.")


def _order_of(rows: Sequence[w.OrderRow]) -> w.NewOrder:
    lines = [
        w.NewOrderLine(
            part=r.part or None, file=r.file or None, quantity=r.quantity, note=r.note,
            requirement=Requirement(material=r.material, colour=r.colour, nozzle_mm=r.nozzle_mm, pool=r.pool),
        )
        for r in rows
    ]  # fmt: skip
    return w.NewOrder.model_validate({"customer": rows[0].customer, "due": rows[0].due or None, "lines": lines})
