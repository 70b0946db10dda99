"""Live pictures for people: what a page and the service say to each other over `/api/looking`; docs/cameras.md.

A page says what it wants to see, and which frames it has got. A frame is a binary message as in `camera_messages`: the
length of its head, the head as JSON, the JPEG.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field, TypeAdapter

from chronarch.wire.common import Label, Time, Wire
from chronarch.wire.watching.camera_messages import Size

MOST_AT_ONCE = 200


class Wish(Wire):
    """How one camera is to be seen."""

    size: Size = "full"
    frames_per_s: float = Field(default=5.0, gt=0, le=15)


class See(Wire):
    """All that a page wants to see from now on; nothing while it is hidden."""

    kind: Literal["see"] = "see"
    cameras: dict[Label, Wish] = Field(max_length=MOST_AT_ONCE)


class Got(Wire):
    """A frame has come and is shown."""

    kind: Literal["got"] = "got"
    number: int


class SeenHead(Wire):
    """What a page is told of a frame."""

    number: int
    camera: str
    size: Size
    at: Time
    """Shop time."""
    taken_at: Time
    """Real time."""


@dataclass(frozen=True)
class SeenFrame:
    """One live picture."""

    head: SeenHead
    jpeg: bytes


def pack_seen(seen: SeenFrame) -> bytes:
    """A live picture as one binary message."""
    text = seen.head.model_dump_json().encode()
    return len(text).to_bytes(2, "big") + text + seen.jpeg


def unpack_seen(message: bytes | str) -> SeenFrame:
    """Take such a message apart. Raises ValueError."""
    if isinstance(message, str):
        raise ValueError("a live picture is a binary message")
    length = int.from_bytes(message[:2], "big")
    return SeenFrame(SeenHead.model_validate_json(message[2 : 2 + length]), message[2 + length :])


from_page: TypeAdapter[See | Got] = TypeAdapter(Annotated[See | Got, Field(discriminator="kind")])
