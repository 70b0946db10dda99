"""Lists by pages: the rows after a place in an order, which the database finds by its indexes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, Select, and_, false, or_
from sqlalchemy.orm import InstrumentedAttribute

Column = ColumnElement[Any] | InstrumentedAttribute[Any]


@dataclass(frozen=True)
class SortKey:
    """One thing that a list is sorted by. `read` makes the value of a text that `str` or `isoformat` made."""

    column: Column
    descending: bool = False
    read: Callable[[str], Any] = int


def number(column: Column, *, descending: bool = False) -> SortKey:
    return SortKey(column, descending)


def words(column: Column) -> SortKey:
    return SortKey(column, read=str)


def moment(column: Column) -> SortKey:
    return SortKey(column, read=datetime.fromisoformat)


def page_of(query: Select[Any], keys: Sequence[SortKey], after: Sequence[Any], most: int) -> Select[Any]:
    """At most so many rows in the order of the keys, those after the one with these values; all without values. The
    last key tells rows apart."""
    if after:
        beyond: list[ColumnElement[bool]] = []
        for n, key in enumerate(keys):
            same = [k.column == value for k, value in zip(keys[:n], after, strict=False)]
            further = key.column < after[n] if key.descending else key.column > after[n]
            beyond.append(and_(*same, further))
        query = query.where(or_(false(), *beyond))
    order = [key.column.desc() if key.descending else key.column.asc() for key in keys]
    return query.order_by(None).order_by(*order).limit(most)
