"""Where channels lead: what of an address people may see, and what is kept encrypted."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from chronarch.service.notices.channels.chat import chat_address
from chronarch.service.notices.channels.posting import check_allowed, shown_url
from chronarch.service.notices.channels.push import PushAccess
from chronarch.service.notices.channels.webhook import WebhookAccess
from chronarch.service.problems import ApiProblem
from chronarch.wire.notices.channels import ChannelKind, PushKeys, StoredNoticeSettings, mail_address

LONGEST_SHOWN = 500


@dataclass(frozen=True)
class Asked:
    """What somebody gave: an address, the secrets that a webhook signs with, the keys of a browser's subscription."""

    address: str
    settings: StoredNoticeSettings
    secrets: Sequence[str] = ()
    keys: PushKeys | None = None


@dataclass(frozen=True)
class Lead:
    """`access` is to be encrypted; empty for an address that may be seen."""

    shown: str
    access: str = ""


Maker = Callable[[Asked], Awaitable[Lead]]


def _seen(check: Callable[[str], str]) -> Maker:
    """For an address that may be seen."""

    async def make(asked: Asked) -> Lead:
        try:
            return Lead(check(asked.address))
        except ValueError as error:
            raise ApiProblem(422, f"{error}.") from None

    return make


async def _webhook(asked: Asked) -> Lead:
    await check_allowed(asked.address, asked.settings.local_webhooks)
    access = WebhookAccess(url=asked.address, secrets=list(asked.secrets))
    return Lead(shown_url(asked.address), access.model_dump_json())


async def _push(asked: Asked) -> Lead:
    if asked.keys is None:
        raise ApiProblem(422, "A push channel needs the keys of the browser's subscription; a browser adds it itself.")
    await check_allowed(asked.address, asked.settings.local_webhooks)
    access = PushAccess(endpoint=asked.address, keys=asked.keys)
    return Lead(urlsplit(asked.address).netloc[:LONGEST_SHOWN], access.model_dump_json())  # the rest of it is a secret


_MAKERS: dict[ChannelKind, Maker] = {
    ChannelKind.MAIL: _seen(mail_address),
    ChannelKind.CHAT: _seen(chat_address),
    ChannelKind.ROOM: _seen(chat_address),
    ChannelKind.WEBHOOK: _webhook,
    ChannelKind.PUSH: _push,
}


async def lead(kind: ChannelKind, asked: Asked) -> Lead:
    """Raises ApiProblem (422) for an address that cannot be one of this kind, or must not be asked."""
    return await _MAKERS[kind](asked)
