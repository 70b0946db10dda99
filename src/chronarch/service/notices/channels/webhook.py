"""Webhooks: CloudEvents 1.0 in structured JSON over HTTP, signed with HMAC-SHA-256 as the open convention of
`webhook-id`, `webhook-timestamp` and `webhook-signature` headers has it."""

from __future__ import annotations

import base64
import hashlib
import hmac
import secrets as random
from dataclasses import dataclass
from datetime import datetime

from chronarch.core.clock import Clock
from chronarch.records.notices.telling import What
from chronarch.service.notices.channels.posting import Poster
from chronarch.service.notices.channels.sending import NotSent, Refused, Sending
from chronarch.service.notices.messages import Message, MessagePart
from chronarch.wire.common import Wire, fill
from chronarch.wire.notices.events import NoticeData, NoticeEvent

PREFIX = "whsec_"
FOR_GOOD = frozenset({400, 405, 406, 413, 415, 422, 501})
"""Answers that refuse this event alone; all others are tried again."""


class WebhookAccess(Wire):
    """Where events go, and what they are signed with: the newest secret first, the one before it for as long as its
    receiver may not have the new one."""

    url: str
    secrets: list[str]


def new_secret() -> str:
    return PREFIX + base64.b64encode(random.token_bytes(32)).decode()


@dataclass
class WebhookSender:
    clock: Clock
    poster: Poster
    gathers = False

    async def send(self, sending: Sending) -> str:
        access = WebhookAccess.model_validate_json(sending.access)
        event = event_of(sending.message)
        body = event.model_dump_json(exclude_none=True).encode()
        headers = signed(event.id, body, access.secrets, self.clock.real_now())
        headers["content-type"] = "application/cloudevents+json"
        said = await self.poster.post(access.url, body, headers, local=sending.settings.local_webhooks)
        if said.good:
            return said.text
        if said.moved:
            raise NotSent(f"{said.status}: it has moved to {said.location or 'elsewhere'}; change the address")
        raise (Refused if said.status in FOR_GOOD else NotSent)(said.text)


def signed(event: str, body: bytes, secrets: list[str], now: datetime) -> dict[str, str]:
    """The headers that prove who sent an event and when: HMAC-SHA-256 of `id.timestamp.body`, one for each secret."""
    at = str(int(now.timestamp()))
    said = b".".join((event.encode(), at.encode(), body))
    keys = [base64.b64decode(secret.removeprefix(PREFIX)) for secret in secrets]
    signatures = [base64.b64encode(hmac.digest(key, said, hashlib.sha256)).decode() for key in keys]
    return {
        "webhook-id": event,
        "webhook-timestamp": at,
        "webhook-signature": " ".join(f"v1,{signature}" for signature in signatures),
    }


def event_of(message: Message) -> NoticeEvent:
    """The event that tells of a message's one notice."""
    part: MessagePart = message.parts[0]
    notice = part.notice
    subject = (
        f"machines/{notice.machine}" if notice.machine else f"orders/{notice.order}" if notice.order
        else f"tenders/{notice.tender}" if notice.tender else "shop"
    )  # fmt: skip
    event = f"{notice.id}-{part.what}"
    if part.what is What.TAKEN and notice.taken_at is not None:
        event += f"-{notice.taken_at:%Y%m%dT%H%M%S%f}"  # it may be given back, and taken again
    data = fill(NoticeData, notice, notice=notice.id, opened_at=notice.at, page=part.page)
    return NoticeEvent(
        id=event if not message.test else f"test-{message.id}",
        source=message.address or "urn:chronarch",
        type="notice.test" if message.test else f"notice.{part.what}",
        subject=subject,
        time={"opened": notice.at, "taken": notice.taken_at, "closed": notice.closed_at}[part.what] or notice.at,
        dataschema=f"{message.address}/api/notice-event-schema" if message.address else "",
        repeated=message.repeated,
        data=data,
    )
