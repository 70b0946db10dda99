"""The ways in which people are reached."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field, field_validator

from chronarch.wire.common import Label, Time, Wire


class ChannelKind(StrEnum):
    """`page`: the console's bell; `mail`; `webhook`: CloudEvents over HTTP; `push`: to a browser in which no page is
    open; `chat`: a person's chat address; `room`: a chat room."""

    PAGE = "page"
    MAIL = "mail"
    WEBHOOK = "webhook"
    PUSH = "push"
    CHAT = "chat"
    ROOM = "room"


Address = Annotated[str, Field(min_length=1, max_length=400, pattern=r"^[^\s\x00-\x1f\x7f]+$")]


class PushKeys(Wire):
    """What a browser's subscription is encrypted with, as it says it: base64url."""

    p256dh: str = Field(min_length=80, max_length=100, pattern=r"^[A-Za-z0-9_-]+=*$")
    auth: str = Field(min_length=16, max_length=40, pattern=r"^[A-Za-z0-9_-]+=*$")


class PushKey(Wire):
    """Our own public key, which a browser wants to subscribe with: base64url."""

    key: str


class NewChannel(Wire):
    """A way to reach somebody. `address` is that of the mail, chat or room, the URL that events are sent to, or what a
    browser's subscription calls its endpoint, with its `keys`."""

    person: str | None = Field(default=None, max_length=120)
    """What the person signs in with who is reached; empty for the shop. Without it: who asks."""
    kind: Literal[ChannelKind.MAIL, ChannelKind.WEBHOOK, ChannelKind.PUSH, ChannelKind.CHAT, ChannelKind.ROOM]
    name: Label = Field(default="", examples=["work mail"])
    address: Annotated[Address, Field(max_length=1000)] = Field(examples=["maud@shop.example"])
    keys: PushKeys | None = None


class ChannelChange(Wire):
    name: Label | None = None
    address: Address | None = None
    on: bool | None = None


class Channel(Wire):
    """A way to reach somebody, and how it stands."""

    id: int
    person: str = ""
    """Who is reached; empty for the shop."""
    mine: bool = False
    """Whether that is who asks."""
    kind: ChannelKind
    name: str
    address: str
    """Where it leads, without secrets."""
    on: bool
    waiting: int = 0
    """How many things are due and not told yet."""
    dead: int = 0
    """How many were given up; they can be sent again by hand."""
    problem: str = ""
    failing_since: Time | None = None
    next_at: Time | None = None
    """When it is tried again. Real time, both."""


class CreatedChannel(Channel):
    secret: str = ""
    """What a webhook's events are signed with: in this answer and nowhere else."""


class DeliveryTry(Wire):
    """One try to send a message, and what was answered."""

    id: int
    message: str
    at: Time
    """Real time."""
    notices: int
    """How many notices were in it; 0 for a test."""
    subject: str
    good: bool
    answer: str


class ChannelTried(Wire):
    """What came of a test message."""

    good: bool
    answer: str
    took_s: float


class DeadLetters(Wire):
    """What was given up is due again."""

    again: int


class MailServer(Wire):
    """The server that takes the shop's mail. `security`: `starttls`, `tls` from the first byte, or `none`."""

    host: Annotated[str, Field(min_length=1, max_length=253, pattern=r"^[^\s/@]+$")] = Field(
        examples=["mail.shop.example"]
    )
    port: int = Field(ge=1, le=65535, examples=[587])
    security: Literal["starttls", "tls", "none"] = "starttls"
    login: str = Field(default="", max_length=200)
    password: str | None = Field(default=None, max_length=400)
    """None: as it was. Never shown."""
    sender: Address = Field(examples=["chronarch@shop.example"])

    @field_validator("sender")
    @classmethod
    def _mail(cls, value: str) -> str:
        return mail_address(value)


class MailServerView(Wire):
    host: str
    port: int
    security: str
    login: str
    has_password: bool
    sender: str


class ChatAccount(Wire):
    """The account that the shop chats with (XMPP). Without `host` its server is found by its address (RFC 6120, 3.2).
    `security`: `starttls`, `tls` from the first byte, or `none`."""

    address: Address = Field(examples=["prints@chat.shop.example"])
    password: str | None = Field(default=None, max_length=400)
    """None: as it was. Never shown."""
    host: Annotated[str, Field(max_length=253, pattern=r"^[^\s/@]*$")] = ""
    port: int = Field(default=5222, ge=1, le=65535)
    security: Literal["starttls", "tls", "none"] = "starttls"


class ChatAccountView(Wire):
    address: str
    host: str
    port: int
    security: str
    has_password: bool


class NoticeSettings(Wire):
    """What the shop has decided about notices."""

    address: str = ""
    """Where people reach this service, such as `https://prints.shop.example`; links in messages begin with it."""
    local_webhooks: bool = False
    """Whether webhooks may lead to this computer and its own network link."""
    spool_low_g: float = 100.0
    """With less than this on a loaded spool, in g, people are told."""
    mail: MailServerView | None = None
    chat: ChatAccountView | None = None
    chat_problem: str = ""
    """Why the shop's account is not in the chat just now; empty when it is."""


class ReachSettings(Wire):
    """What may be decided about how people are reached; what is left out stays."""

    address: Annotated[str, Field(max_length=200, pattern=r"^(https?://[^\s/?#@]+(/[^\s?#]*)?)?$")] | None = None
    local_webhooks: bool | None = None
    spool_low_g: float | None = Field(default=None, ge=0, le=100_000, allow_inf_nan=False)
    mail: MailServer | None = None
    chat: ChatAccount | None = None


class NoticeSettingsUpdate(ReachSettings):
    without: list[Literal["mail", "chat"]] | None = Field(default=None, max_length=2)
    """What the shop no longer has."""


class StoredNoticeSettings(Wire):
    """The same as it is kept: passwords encrypted."""

    address: str = ""
    local_webhooks: bool = False
    spool_low_g: float = 100.0
    mail: MailServerView | None = None
    mail_password: str = ""
    chat: ChatAccountView | None = None
    chat_password: str = ""


def mail_address(text: str) -> str:
    """Raises ValueError."""
    user, at, host = text.rpartition("@")
    if (
        not at
        or not user
        or ("." not in host.strip(".") and host != "localhost")
        or any(c in text for c in '<>(),;:"\\[]')
    ):
        raise ValueError(f"{text!r} is no mail address; write one like maud@shop.example")
    return text
