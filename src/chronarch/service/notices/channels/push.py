"""Push messages to an installed page: RFC 8030, encrypted for that browser alone (RFC 8291), in our own name
(RFC 8292)."""

from __future__ import annotations

import base64
import json
from dataclasses import dataclass
from functools import cached_property
from typing import Annotated
from urllib.parse import urlsplit

from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from py_vapid import Vapid02
from pywebpush import WebPusher

from chronarch.core.clock import Clock
from chronarch.core.notices.kinds import Gravity
from chronarch.service.context import part
from chronarch.service.notices.channels.posting import Poster
from chronarch.service.notices.channels.sending import Gone, NotSent, Refused, Sending
from chronarch.service.notices.messages import Message
from chronarch.service.secrets import Secrets
from chronarch.wire.common import Wire
from chronarch.wire.notices.channels import PushKeys

KEPT_S, SIGNED_FOR_S = 12 * 3600, 12 * 3600
"""How long a push service keeps a message for a browser that is off, and for how long our signature is good."""
LONGEST_BODY, MOST_LINES, MOST_ACTS = 300, 4, 2
"""Of what is shown; with the rest it must fit 4096 bytes (RFC 8030, 7.2)."""
FOR_GOOD = frozenset({400, 413, 415})
NOT_THERE = frozenset({404, 410})


class PushAccess(Wire):
    """What a browser gave us: where messages go, and what they are encrypted with."""

    endpoint: str
    keys: PushKeys


@dataclass
class PushSender:
    clock: Clock
    secrets: Secrets
    poster: Poster
    gathers = True

    @cached_property
    def _ours(self) -> Vapid02:
        """The key that we sign with. It follows from the service's own, so that none has to be kept."""
        raw = base64.urlsafe_b64encode(self.secrets.derived("push messages")).rstrip(b"=")
        return Vapid02.from_raw(raw)

    @property
    def public_key(self) -> str:
        """What a browser is given when it subscribes."""
        point = self._ours.public_key.public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)
        return base64.urlsafe_b64encode(point).rstrip(b"=").decode()

    async def send(self, sending: Sending) -> str:
        access = PushAccess.model_validate_json(sending.access)
        server = sending.settings.mail
        claims = {
            "aud": "{0.scheme}://{0.netloc}".format(urlsplit(access.endpoint)),
            "exp": int(self.clock.real_now().timestamp()) + SIGNED_FOR_S,
            "sub": f"mailto:{server.sender}" if server else sending.settings.address or "mailto:nobody@localhost",
        }
        pusher = WebPusher({"endpoint": access.endpoint, "keys": access.keys.model_dump()})
        body = pusher.encode(said(sending.message))["body"]
        urgent = sending.message.gravest in (Gravity.ACT, Gravity.URGENT)
        headers = {
            **self._ours.sign(claims), "content-encoding": "aes128gcm", "content-type": "application/octet-stream",
            "ttl": str(KEPT_S), "urgency": "high" if urgent else "normal",
        }  # fmt: skip
        answer = await self.poster.post(access.endpoint, body, headers, local=sending.settings.local_webhooks)
        if answer.good:
            return answer.text
        if answer.status in NOT_THERE:
            raise Gone("this browser takes no more messages: it was uninstalled, or told not to")
        raise (Refused if answer.status in FOR_GOOD else NotSent)(answer.text)


def said(message: Message) -> bytes:
    """What the page's worker shows, as JSON."""
    alone = message.parts[0] if len(message.parts) == 1 else None
    lines = [part.headline for part in message.parts[:MOST_LINES]] or [message.subject]
    shown = {
        "title": message.subject if len(message.parts) > 1 else message.shop,
        "body": "\n".join(lines)[:LONGEST_BODY],
        "url": alone.page if alone else f"{message.address}/notices",
        "tag": message.id,
        "again": message.repeated,
        "acts": [{"text": link.text, "url": link.url} for link in (alone.links[:MOST_ACTS] if alone else ())],
    }
    return json.dumps(shown, ensure_ascii=False).encode()


ThePushSender = Annotated[PushSender, part(PushSender)]
