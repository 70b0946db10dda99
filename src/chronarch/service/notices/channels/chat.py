"""Notices as chat messages, and the connection that hears what people answer."""

from __future__ import annotations

from dataclasses import dataclass, field

from slixmpp.jid import JID, InvalidJID

from chronarch.core.backoff import Backoff
from chronarch.service.context import ServiceContext
from chronarch.service.notices.channels.chat_line import ChatLine
from chronarch.service.notices.channels.sending import NotSent, Sending
from chronarch.service.notices.messages import Message
from chronarch.service.notices.settings import load_settings
from chronarch.service.secrets import SecretLost, Secrets
from chronarch.wire.notices.channels import ChannelKind, ChatAccountView, StoredNoticeSettings

LOOK_EVERY_S = 5.0
MOST_LINES = 30
"""So many notices are told in one message; the others are counted."""
AGAIN_S, LASTING_S = (0.0, 5.0, 15.0, 30.0), 60.0


@dataclass
class ChatKeeper:
    """Keeps the line open for as long as the shop has a chat account."""

    context: ServiceContext
    secrets: Secrets
    line: ChatLine
    _tried: tuple[ChatAccountView, str] | None = None
    _tried_s: float = 0.0
    _wait_s: float = 0.0
    _backoff: Backoff = field(default_factory=lambda: Backoff(AGAIN_S, LASTING_S))

    async def look(self) -> None:
        async with self.context.sessions() as db:
            settings = await load_settings(db)
        if settings.chat is None:
            return await self.line.close()
        now_s, sealed = self.context.clock.monotonic_s(), (settings.chat, settings.chat_password)
        if self.line.problem and self._tried == sealed and now_s - self._tried_s < self._wait_s:
            return None
        try:
            await self.line.keep(*account_of(settings, self.secrets))
        except NotSent as error:
            self.line.problem = str(error)
            self._wait_s = self._backoff.next_s(now_s - self._tried_s)
            self._tried, self._tried_s = sealed, now_s
        return None


def account_of(settings: StoredNoticeSettings, secrets: Secrets) -> tuple[ChatAccountView, str]:
    """The shop's account and its password. Raises NotSent."""
    if settings.chat is None:
        raise NotSent("the shop has no chat account; add one in Set-up, Notices")
    try:
        return settings.chat, secrets.open(settings.chat_password.encode()) if settings.chat.has_password else ""
    except SecretLost as lost:
        raise NotSent(f"the chat account's password is lost: {lost}") from None


@dataclass
class ChatSender:
    secrets: Secrets
    line: ChatLine
    gathers = True

    async def send(self, sending: Sending) -> str:
        account, password = account_of(sending.settings, self.secrets)
        client = await self.line.open(account, password)
        in_room = sending.channel.kind == ChannelKind.ROOM
        tell = self.line.say_in_room if in_room else self.line.say
        picture = next((part.picture for part in sending.message.parts if part.picture), b"")
        await tell(client, sending.channel.shown, sending.message.id, said(sending.message), picture)
        return (
            f"the room {sending.channel.shown} has said it"
            if in_room
            else f"taken by {account.address.rpartition('@')[2]}"
        )


def said(message: Message) -> str:
    """A message as chat has it: plain lines, each notice with its number, by which it can be answered."""
    lines = [message.subject] if message.test or len(message.parts) > 1 else []
    if message.repeated:
        lines.append("(This may have reached you before.)")
    for part in message.parts[:MOST_LINES]:
        lines.append(f"{part.when} {part.headline}{f' ({part.now})' if part.now else ''} [{part.notice.id}]")
    if len(message.parts) > MOST_LINES:
        lines.append(f"… and {len(message.parts) - MOST_LINES} more: {message.address}/notices")
    if len(message.parts) == 1:
        (part,) = message.parts
        lines += [f"{link.text}: {link.url}" for link in part.links]
        lines += [part.page] if part.page else []
    return "\n".join(lines)


def chat_address(text: str) -> str:
    """An address as it is kept: without a device, in lower case (RFC 7622). Raises ValueError."""
    try:
        found = JID(text)
    except InvalidJID:
        found = JID()
    if not found.local or not found.domain or found.resource:
        raise ValueError(f"{text!r} is no chat address; write one like maud@chat.shop.example")
    return str(found.bare).lower()
