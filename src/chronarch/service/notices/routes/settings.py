"""What the shop has decided about notices."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from pydantic_core import to_jsonable_python

from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.notices.channels.chat import chat_address
from chronarch.service.notices.channels.chat_line import ChatLine, TheChatLine
from chronarch.service.notices.settings import NAME, load_settings
from chronarch.service.problems import ApiProblem
from chronarch.service.secrets import Secrets, TheSecrets
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
        stored = await load_settings(db)
        for name in ("local_webhooks", "spool_low_g"):
            if (value := getattr(change, name)) is not None:
                setattr(stored, name, value)
        if change.address is not None:
            stored.address = change.address.rstrip("/")
        if "mail" in (change.without or ()):
            stored.mail, stored.mail_password = None, ""
        if "chat" in (change.without or ()):
            stored.chat, stored.chat_password = None, ""
        if change.mail is not None:
            before, asked = stored.mail, change.mail
            same = before is not None and (before.host, before.login) == (asked.host, asked.login)
            stored.mail_password = _password(asked.password, stored.mail_password if same else "", sealing)
            stored.mail = fill(w.MailServerView, asked, has_password=bool(stored.mail_password))
        if change.chat is not None:
            had, account = stored.chat, _account(change.chat)
            same = had is not None and (had.address, had.host) == (account.address, account.host)
            stored.chat_password = _password(account.password, stored.chat_password if same else "", sealing)
            stored.chat = fill(w.ChatAccountView, account, has_password=bool(stored.chat_password))
        await db.merge(t.Setting(name=NAME, value=to_jsonable_python(stored)))
        await db.commit()
        return _view(stored, line)


def _account(asked: w.ChatAccount) -> w.ChatAccount:
    """Raises ApiProblem (422)."""
    try:
        return asked.model_copy(update={"address": chat_address(asked.address)})
    except ValueError as error:
        raise ApiProblem(422, f"{error}.") from None


def _password(asked: str | None, before: str, sealing: Secrets) -> str:
    """Encrypted; empty without one. None is the one before."""
    return before if asked is None else sealing.seal(asked).decode() if asked else ""


@router.get("/notice-event-schema")
async def event_schema() -> dict[str, Any]:
    """The JSON Schema of the events that webhooks are sent."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **NoticeEvent.model_json_schema()}
