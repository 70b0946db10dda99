"""What a webhook is sent: an event as CloudEvents 1.0 has it, structured JSON."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.wire.common import Time, Wire


class NoticeData(Wire):
    """A notice, as of the moment the event tells of. Times are shop time."""

    notice: int
    kind: NoticeKind
    gravity: Gravity
    text: str
    opened_at: Time
    taken_by: str = ""
    taken_at: Time | None = None
    closed_at: Time | None = None
    machine: str | None = None
    build: int | None = None
    order: int | None = None
    job: int | None = None
    spool: int | None = None
    suspicion: int | None = None
    count: int | None = None
    page: str = ""
    """Where the console shows it."""


class NoticeEvent(Wire):
    """CloudEvents 1.0. `id` is the same each time an event is sent; `repeated` says that it may have come before."""

    specversion: Literal["1.0"] = "1.0"
    id: str
    source: str = Field(examples=["https://prints.shop.example"])
    type: Literal["notice.opened", "notice.taken", "notice.closed", "notice.test"]
    subject: str = Field(examples=["machines/Anchor"])
    time: Time
    datacontenttype: Literal["application/json"] = "application/json"
    dataschema: str = ""
    repeated: bool = False
    """An extension attribute: nobody knows whether an earlier try arrived."""
    data: NoticeData
