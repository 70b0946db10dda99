"""What sending a message over a channel may come to."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from chronarch.records import tables as t
from chronarch.service.notices.messages import Message
from chronarch.wire.notices.channels import StoredNoticeSettings


class NotSent(Exception):
    """It surely did not arrive; it is tried again later. The text says why."""


class Unsure(NotSent):
    """Nobody knows whether it arrived. It is sent again, marked as perhaps repeated."""


class Refused(NotSent):
    """It will not be taken however often it is tried."""


class Gone(Refused):
    """There is nobody there any more: the channel is turned off."""


@dataclass(frozen=True)
class Sending:
    """A message, and where it goes."""

    message: Message
    channel: t.Channel
    access: str
    """As it was encrypted."""
    settings: StoredNoticeSettings


class Sender(Protocol):
    """Sends messages over one kind of channel."""

    gathers: bool
    """Whether people read it, so that many notices at once become one message."""

    async def send(self, sending: Sending) -> str:
        """Returns what was answered. Raises NotSent, Unsure, Refused."""
