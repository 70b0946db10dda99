"""Notices as the wire shows them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import KINDS, NoticeAct, NoticeKind, closed_by_hand
from chronarch.records import tables as t
from chronarch.service.machines.fleet import Fleet
from chronarch.service.notices.acts import possible, stands
from chronarch.wire.common import fill
from chronarch.wire.notices.notices import Notice


async def notice_views(db: AsyncSession, fleet: Fleet, rows: Sequence[t.Notice], read_to: int | None) -> list[Notice]:
    """`read_to` is the newest that the asking person has read; None for who is no person."""
    names = {known.row.id: known.row.name for known in fleet.all()}
    return [
        fill(
            Notice, row, machine=names.get(row.machine_id or 0), build=row.build_id, order=row.order_id,
            job=row.job_id, spool=row.spool_id, suspicion=row.suspicion_id, frame=row.frame_id,
            by_hand=row.closed_at is None and closed_by_hand(NoticeKind(row.kind)),
            acts=await _acts(db, row), unread=read_to is not None and row.id > read_to,
        )
        for row in rows
    ]  # fmt: skip


async def _acts(db: AsyncSession, row: t.Notice) -> list[NoticeAct]:
    if row.closed_at is not None or not KINDS[NoticeKind(row.kind)].acts:
        return []
    return possible(await stands(db, row))
