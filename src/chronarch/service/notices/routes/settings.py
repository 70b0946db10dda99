"""What the shop has decided about notices."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter

from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.notices import setting_up
from chronarch.service.notices.channels.chat_line import ChatLine, TheChatLine
from chronarch.service.notices.settings import load_settings
from chronarch.service.secrets import TheSecrets
from chronarch.wire.common import fill
from chronarch.wire.notices import channels as w
from chronarch.wire.notices.events import NoticeEvent

router = APIRouter(tags=["notices"], route_class=RetryingRoute)


@router.get("/notice-settings")
async def notice_settings(context: Context, line: TheChatLine) -> w.NoticeSettings:
    """Where links in messages lead, the server that takes the shop's mail, and the account that it chats with."""
    async with context.sessions() as db:
        return _view(await load_settings(db), line)


def _view(stored: w.StoredNoticeSettings, line: ChatLine) -> w.NoticeSettings:
    return fill(w.NoticeSettings, stored, chat_problem=line.stands(stored.chat) if stored.chat else "")


@router.patch("/notice-settings")
async def change_settings(
    change: w.NoticeSettingsUpdate, context: Context, sealing: TheSecrets, line: TheChatLine
) -> w.NoticeSettings:
    """Change some of them. A password that is not given stays, unless the server or the sign-in is another."""
    async with context.sessions() as db:
        stored = await setting_up.change_settings(db, change, sealing)
        await db.commit()
        return _view(stored, line)


@router.get("/notice-event-schema")
async def event_schema() -> dict[str, Any]:
    """The JSON Schema of the events that webhooks are sent."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **NoticeEvent.model_json_schema()}
