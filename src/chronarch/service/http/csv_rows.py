"""Rows of a CSV (RFC 4180): those that somebody wrote, whose first row names the columns, and cells of our own."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import TypeVar

from pydantic import BaseModel, ValidationError

from chronarch.service.problems import ApiProblem

DELIMITERS = ",;\t"
"""What spreadsheets put between fields, by the language of whoever writes them."""

Row = TypeVar("Row", bound=BaseModel)


def csv_rows(text: str, kind: type[Row], needs: Sequence[str]) -> list[tuple[int, Row]]:
    """Each row of a table as a `kind`, with its number; the head is row 1. `needs` are columns without which nothing
    can be done. Empty fields and rows say nothing. Raises ApiProblem (422)."""
    text = text.removeprefix("\ufeff")
    head = text.lstrip("\r\n").split("\n", 1)[0]
    delimiter = max(DELIMITERS, key=head.count)
    table = csv.DictReader(io.StringIO(text, newline=""), strict=True, delimiter=delimiter)
    number = 1
    try:
        _check_head(list(table.fieldnames or []), kind, needs)
        found = []
        for number, fields in enumerate(table, 2):
            if None in fields or None in fields.values():
                raise ApiProblem(422, f"Row {number} of the CSV has not as many fields as its first row.")
            said = {name: value.strip() for name, value in fields.items() if value.strip()}
            if said:
                found.append((number, kind.model_validate(said)))
        return found
    except csv.Error as error:
        raise ApiProblem(422, f"The CSV cannot be read near row {number}: {error}.") from None
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        said_why = first["msg"].removeprefix("Value error, ")
        raise ApiProblem(422, f"Row {number} of the CSV: {f'{where}: ' if where else ''}{said_why}") from None


def cell_text(value: str) -> str:
    """A text that no table program takes for a formula."""
    return f"'{value}" if value[:1] in ("=", "+", "-", "@", "\t", "\r") and not _number(value) else value


def _number(value: str) -> bool:
    try:
        float(value)
    except ValueError:
        return False
    return True


def _check_head(columns: list[str], kind: type[BaseModel], needs: Sequence[str]) -> None:
    known = set(kind.model_fields)
    unknown = [c for c in columns if c not in known]
    twice = [c for c in columns if columns.count(c) > 1]
    if unknown or twice or not set(needs) <= set(columns):
        raise ApiProblem(
            422, f"The CSV's first row names its columns: {', '.join(needs)}, and any of "
            f"{', '.join(sorted(known - set(needs)))}."
            + (f" {unknown[0]!r} is none of them." if unknown else f" {twice[0]!r} is there twice." if twice else "")
        )  # fmt: skip
