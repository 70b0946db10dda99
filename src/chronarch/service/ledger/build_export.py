"""All builds that are asked for, as a file, some thousand at a time: the memory does not grow."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence

from chronarch.records.database import Sessions
from chronarch.records.ledger.build_search import SORTED, Condition, find
from chronarch.records.orders.builds import builds_wire
from chronarch.service.ledger.build_forms import FORMS
from chronarch.wire.ledger.history import BuildSort, ExportForm

AT_ONCE = 2000


async def exported(
    sessions: Sessions, wanted: Sequence[Condition], sort: BuildSort, form: ExportForm
) -> AsyncIterator[bytes]:
    """The file, in pieces."""
    writer = await asyncio.to_thread(FORMS[form].writer)
    if head := writer.head():
        yield head
    _, place = SORTED[sort]
    after: Sequence[object] = ()
    while True:
        async with sessions() as db:
            rows = await find(db, wanted, sort, after, AT_ONCE)
            found = await builds_wire(db, rows)
        if found and (piece := await asyncio.to_thread(writer.some, found)):
            yield piece
        if len(rows) < AT_ONCE:
            break
        after = place(rows[-1])
    if end := await asyncio.to_thread(writer.end):
        yield end
