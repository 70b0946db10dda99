"""Messages: what is due over a channel, as its reader needs it."""

from __future__ import annotations

import asyncio
import io
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from PIL import Image, ImageDraw
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import Gravity
from chronarch.records import tables as t
from chronarch.records.notices.telling import What
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.service.notices.act_links import ActLinks
from chronarch.service.notices.acts import WORDS, Stand, frame_of, place_in, possible, stands
from chronarch.service.notices.views import notice_views
from chronarch.service.watching.content_folder import FrameStore
from chronarch.wire.notices.notices import Notice

MOST_PICTURES = 4
LARGEST_PICTURE = 2_000_000
LONGEST_SUBJECT = 150
INNER, OUTER, MARGIN_PX = (255, 255, 255), (176, 42, 30), 6
"""What a place is marked with, to be seen on any material."""
ASKS = (Gravity.ACT, Gravity.URGENT)
GRAVITY_WORDS = {
    Gravity.NOTE: "Note", Gravity.LOOK: "Have a look", Gravity.ACT: "Hands are needed", Gravity.URGENT: "Urgent",
}  # fmt: skip


@dataclass(frozen=True)
class MessageLink:
    """Something that can be pressed in a message."""

    text: str
    url: str


@dataclass(frozen=True)
class MessagePart:
    """What a message says of one notice. `delivery` is the number of what is told; `mark` one of the picture's."""

    delivery: int
    what: What
    notice: Notice
    when: str
    now: str
    """How it stands by now, if that has changed: that somebody goes, that it is over."""
    page: str
    links: tuple[MessageLink, ...] = ()
    picture: bytes = b""

    @property
    def gravity_words(self) -> str:
        return GRAVITY_WORDS[self.notice.gravity]

    @property
    def headline(self) -> str:
        if self.what is What.TAKEN:
            return f"{self.notice.taken_by or 'Nobody'} goes: {self.notice.text}"
        return f"Over: {self.notice.text}" if self.what is What.CLOSED else self.notice.text


@dataclass(frozen=True)
class Message:
    """One message over a channel. `id` stays the same when it is sent again; `repeated` says that an earlier try may
    have arrived."""

    id: str
    shop: str
    parts: tuple[MessagePart, ...]
    repeated: bool = False
    address: str = ""
    """Where the console is."""
    test: bool = False
    at: datetime | None = None

    @property
    def subject(self) -> str:
        if self.test:
            return f"{self.shop}: a test, nothing has happened"
        if len(self.parts) == 1:
            text = self.parts[0].headline
        else:
            asking = sum(p.notice.gravity in ASKS and p.notice.closed_at is None for p in self.parts)
            text = f"{len(self.parts)} notices" + (f", {asking} ask{'s' * (asking == 1)} for hands" if asking else "")
        text = " ".join(text.split())
        return text if len(text) <= LONGEST_SUBJECT else f"{text[:LONGEST_SUBJECT].rstrip()}…"

    @property
    def gravest(self) -> Gravity:
        return max((p.notice.gravity for p in self.parts), key=lambda g: g.rank, default=Gravity.NOTE)


@dataclass
class MessageWriter:
    """Writes messages."""

    context: ServiceContext
    fleet: Fleet
    frames: FrameStore
    links: ActLinks
    _pictures: dict[str, bytes] = field(default_factory=dict)

    async def write(
        self, db: AsyncSession, channel: t.Channel, told: Sequence[tuple[t.Delivery, t.Notice]], address: str
    ) -> Message:
        """What is told over a channel, as one message."""
        views = await notice_views(db, self.fleet, [row for _, row in told], None)
        operates = channel.person_id is not None and address
        parts, shown = [], 0
        for (delivery, row), view in zip(told, views, strict=True):
            stand = await stands(db, row)
            what = What(delivery.what)
            picture = b""
            if what is What.OPENED and shown < MOST_PICTURES:
                picture = await self._picture(db, stand)
                shown += bool(picture)
            acts: tuple[MessageLink, ...] = ()
            if operates and what is What.OPENED and channel.person_id is not None:
                acts = tuple(
                    MessageLink(WORDS[act], f"{address}/act#{self.links.write(stand, channel.person_id, act)}")
                    for act in possible(stand)
                )
            parts.append(
                MessagePart(
                    delivery.id, what, view, self.fleet.words(row.at, self.context.clock.now()), self._now(row, what),
                    page_of(address, view), acts, picture,
                )
            )  # fmt: skip
        first = told[0][0] if told else None
        return Message(
            first.message if first else "", self.context.shop.name, tuple(parts),
            any(d.repeated for d, _ in told), address, at=self.context.clock.now(),
        )  # fmt: skip

    def _now(self, row: t.Notice, what: What) -> str:
        words = self.fleet.words
        if what is What.OPENED and row.closed_at is not None and row.closed_at != row.at:
            return f"over since {words(row.closed_at, row.at)}"
        if what is What.OPENED and row.taken_at is not None:
            return f"{row.taken_by} goes"
        return ""

    async def _picture(self, db: AsyncSession, stand: Stand) -> bytes:
        """The frame that shows it, or else the newest of its build."""
        found = await frame_of(db, stand)
        if found is None or found.size > LARGEST_PICTURE:
            return b""
        try:
            return await asyncio.to_thread(shown, self.frames.path(found.sha256), place_in(stand))
        except OSError:
            return b""


def shown(path: Path, place: Sequence[float] | None) -> bytes:
    """A frame with the place that it is about marked: left, top, width and height as shares of the picture. Raises
    OSError."""
    if place is None:
        return path.read_bytes()
    with Image.open(path) as picture:
        width, height = picture.size
        left, top, wide, high = place[0] * width, place[1] * height, place[2] * width, place[3] * height
        thick = max(2, width // 320)
        marked = picture.convert("RGB")
        pen = ImageDraw.Draw(marked)
        for colour, out in ((OUTER, MARGIN_PX + thick), (INNER, MARGIN_PX)):
            pen.rectangle((left - out, top - out, left + wide + out, top + high + out), outline=colour, width=thick)
        made = io.BytesIO()
        marked.save(made, "JPEG", quality=88)
    return made.getvalue()


def page_of(address: str, view: Notice) -> str:
    """Where the console shows what a notice is about."""
    if not address:
        return ""
    where = (
        f"builds/{view.build}" if view.build else f"orders/{view.order}" if view.order
        else f"machines/{view.machine}" if view.machine else "notices"
    )  # fmt: skip
    return f"{address}/{where}"
