"""The audit: who did what to what, from where, when, and what it was before."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import AsyncIterator, Mapping
from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Depends, Query, Response
from fastapi.responses import StreamingResponse
from sqlalchemy import select

from chronarch.core.bounds import Word
from chronarch.records import tables as t
from chronarch.records.access.audit_trail import AuditFilter
from chronarch.records.paging import number
from chronarch.service.access import auditing
from chronarch.service.access.auditing import TheAuditing
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.csv_rows import cell_text
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Paged
from chronarch.wire import access as w

router = APIRouter(tags=["people"], route_class=RetryingRoute)
AT_ONCE = 500
COLUMNS = (
    "number",
    "at",
    "who",
    "name",
    "act",
    "text",
    "asked",
    "subject",
    "refused",
    "address",
    "device",
    "before",
    "after",
)


async def _asked(
    context: Context,
    who: Annotated[Word, Query(max_length=120, description="A login, or an identity such as `key 7`.")] = "",
    text: Annotated[Word, Query(max_length=120)] = "",
    since: datetime | None = None,
    until: datetime | None = None,
    refused: bool = False,
) -> AuditFilter:
    async with context.sessions() as db:
        return AuditFilter(await auditing.identity_of(db, who) if who else "", text, since, until, refused)


Asked = Annotated[AuditFilter, Depends(_asked)]


@router.get("/audit")
async def entries(
    context: Context, asked: Asked, page: Paged, audit: TheAuditing, response: Response
) -> list[w.AuditEntry]:
    """The entries of the audit, the newest first."""
    query = page.of(asked.of(select(t.AuditEntry)), number(t.AuditEntry.id, descending=True))
    async with context.sessions() as db:
        rows = page.cut((await db.execute(query)).scalars().all(), lambda row: [row.id])
        if page.next:
            response.headers["Link"] = page.next
        return await auditing.views(db, rows, audit.texts)


@router.get("/audit.csv", response_class=StreamingResponse, responses={200: {"content": {"text/csv": {}}}})
async def audit_csv(context: Context, asked: Asked, audit: TheAuditing) -> StreamingResponse:
    """The entries of the audit as CSV (RFC 4180), the oldest first."""
    return StreamingResponse(_csv(context, asked, audit.texts), media_type="text/csv; charset=utf-8")


@router.post("/audit/verify")
async def verify(audit: TheAuditing, asked: w.AuditAsked | None = None) -> w.AuditProof:
    """Look whether an entry is missing or was changed."""
    return await audit.verify(asked or w.AuditAsked())


@router.get("/audit-settings")
async def settings(context: Context) -> w.AuditSettings:
    """How long entries are kept."""
    async with context.sessions() as db:
        return await auditing.load_settings(db)


@router.put("/audit-settings")
async def change_settings(asked: w.AuditSettings, context: Context, audit: TheAuditing) -> w.AuditSettings:
    """Say how long entries are kept. What is older goes at once."""
    async with context.sessions() as db:
        await auditing.change_settings(db, asked)
        await db.commit()
    await audit.give_up()
    return asked


async def _csv(context: ServiceContext, asked: AuditFilter, texts: Mapping[str, str]) -> AsyncIterator[bytes]:
    after = 0
    yield _lines([COLUMNS])
    while True:
        query = asked.of(select(t.AuditEntry)).where(t.AuditEntry.id > after).order_by(t.AuditEntry.id).limit(AT_ONCE)
        async with context.sessions() as db:
            rows = (await db.execute(query)).scalars().all()
            shown = await auditing.views(db, rows, texts)
        yield _lines([
            (
                e.number, e.at.isoformat(), e.who, e.name, e.act, e.text, e.asked, e.subject, e.refused or "",
                e.address, e.device, json.dumps({r.row: r.before for r in e.rows if r.before}, ensure_ascii=False),
                json.dumps({r.row: r.after for r in e.rows if r.after}, ensure_ascii=False),
            )
            for e in shown
        ])  # fmt: skip
        if len(rows) < AT_ONCE:
            return
        after = rows[-1].id


def _lines(rows: list[tuple[object, ...]]) -> bytes:
    out = io.StringIO()
    cells = ([cell_text(one) if isinstance(one, str) else one for one in row] for row in rows)
    csv.writer(out, lineterminator="\r\n").writerows(cells)
    return out.getvalue().encode()
