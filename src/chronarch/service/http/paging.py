"""Pages of lists: `limit` and `after` in the request, the address of the next page as a Link header (RFC 8288)."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Annotated, Any, TypeVar

from fastapi import Depends, Query, Request
from sqlalchemy import Select

from chronarch.core.bounds import Word
from chronarch.records.paging import SortKey, page_of
from chronarch.service.problems import ApiProblem

MOST = 1000
R = TypeVar("R")


@dataclass
class Page:
    """The page of a list that is asked for. `next` is the Link header to the one after it; empty for the last."""

    limit: int
    after: str
    request: Request
    next: str = ""

    def of(self, query: Select[Any], *keys: SortKey) -> Select[Any]:
        """The rows of this page in the order of the keys, and one more if there are more. Raises ApiProblem (400)."""
        return page_of(query, keys, self.place(keys), self.limit + 1)

    def place(self, keys: Sequence[SortKey]) -> list[Any]:
        """The values of the keys after which the page begins; empty for the first page. Raises ApiProblem (400)."""
        if not self.after:
            return []
        try:
            padded = self.after + "=" * (-len(self.after) % 4)
            values = json.loads(base64.urlsafe_b64decode(padded))
            return [key.read(str(value)) for key, value in zip(keys, values, strict=True)]
        except (ValueError, TypeError):
            text = "`after` is no place in this list; take it from the Link header of the page before."
            raise ApiProblem(400, text) from None

    def cut(self, rows: Sequence[R], place: Callable[[R], Sequence[Any]]) -> Sequence[R]:
        """The rows of this page; `place` gives a row's keys."""
        if len(rows) <= self.limit:
            return rows
        values = place(rows[self.limit - 1])
        plain = [value.isoformat() if isinstance(value, datetime) else value for value in values]
        after = base64.urlsafe_b64encode(json.dumps(plain).encode()).decode().rstrip("=")
        url = self.request.url.include_query_params(after=after, limit=self.limit)
        self.next = f'<{url.path}?{url.query}>; rel="next"'
        return rows[: self.limit]


def pages(usual: int) -> Any:
    """A dependency: the page that is asked for, of so many rows unless the request says how many."""

    async def asked(
        request: Request,
        limit: Annotated[int, Query(ge=1, le=MOST, description="At most so many.")] = usual,
        after: Annotated[Word, Query(description="Where the page begins, from the Link of the one before.")] = "",
    ) -> Page:
        return Page(limit, after, request)

    return Depends(asked)


Paged = Annotated[Page, pages(100)]
"""A page of 100 rows, unless another number is asked for."""

ManyPaged = Annotated[Page, pages(MOST)]
"""A page as large as may be, unless less is asked for: of small rows that are mostly wanted all."""
