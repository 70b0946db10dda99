"""What the shop has decided about notices, and what everybody wants to hear of."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.notice_rules import NoticeRule
from chronarch.records import tables as t
from chronarch.wire.notices.channels import StoredNoticeSettings
from chronarch.wire.notices.rules import notice_rule

NAME = "notices"


async def load_settings(db: AsyncSession) -> StoredNoticeSettings:
    row = await db.get(t.Setting, NAME)
    return StoredNoticeSettings.model_validate(row.value) if row else StoredNoticeSettings()


async def load_rules(db: AsyncSession) -> list[tuple[int, int | None, NoticeRule]]:
    """All rules: number, whose (None: the shop's), and what it says."""
    rows = (await db.execute(select(t.NoticeRule).order_by(t.NoticeRule.id))).scalars()
    return [(row.id, row.person_id, notice_rule.validate_python(row.rule)) for row in rows]
