"""What a tender's camera process and the service say to each other over their WebSocket, `/api/tender/cameras`.

Messages are JSON objects, told apart by `kind`. A frame is a binary message: the length of its head (two bytes, most
significant first), the head (`FrameHead` as JSON), and the JPEG.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, TypeAdapter

from chronarch.core.bounds import Counted
from chronarch.core.watching.camera_settings import CameraSettings
from chronarch.core.watching.frame_keeping import FrameReason
from chronarch.wire.common import GivenTime, Label, Wire
from chronarch.wire.watching.cameras import CameraAccess, CameraTest, LocalCamera

Size = Literal["full", "small"]
Text = Annotated[str, Field(max_length=500)]


class CameraHello(Wire):
    kind: Literal["hello"] = "hello"
    tender: str = Field(min_length=1, max_length=60)


class CameraStands(Wire):
    """A camera has begun or ceased to give pictures; `trouble` is empty when they come."""

    kind: Literal["stands"] = "stands"
    camera: Label
    trouble: Text = ""
    since: GivenTime
    """Real time."""


class WorkMeasured(Wire):
    """What cameras cost; each second or so."""

    kind: Literal["work"] = "work"
    budget: float = Field(ge=0, le=1000)
    used: float = Field(ge=0, le=1000)
    factor: float = Field(ge=0, le=1)


class CameraAnswer(Wire):
    """The answer to a question; the frame of a test comes before it. `problem` is empty when it could be answered."""

    kind: Literal["answer"] = "answer"
    id: Text
    problem: Text = ""
    took_s: float = Field(default=0.0, ge=0, le=1e6)
    warning: Text = ""
    local: list[LocalCamera] = Field(default_factory=list, max_length=200)


class KeptAs(Wire):
    """Why a frame is kept, and where in a build it was taken. `id` is its name in the tender's spool."""

    id: Text
    why: FrameReason
    build: int | None = Field(default=None, ge=1, lt=2**31)
    layer: Counted = 0
    command: Counted = 0


class SpoolTrouble(Wire):
    """Frames cannot be kept at the tender, or can be again (empty)."""

    kind: Literal["spool"] = "spool"
    trouble: Text = ""


class FrameHead(Wire):
    """What is known of a frame."""

    camera: Label = ""
    answer: Text = ""
    """For the frame of a test: the id of the question."""
    size: Size
    taken_at: GivenTime
    """Real time."""
    at: GivenTime
    """Shop time."""
    width: int = Field(ge=1, le=20_000)
    height: int = Field(ge=1, le=20_000)
    build: int | None = Field(default=None, ge=1, lt=2**31)
    command: Counted = 0
    """Where in a build the machine was: the commands that it had acknowledged."""
    kept: KeptAs | None = None
    """For a frame that is to be kept; it is not a live one."""


class WatchedCamera(CameraAccess):
    """A camera as its tender gets it, secrets included."""

    name: str
    machine: str = ""
    settings: CameraSettings


class WatchCameras(Wire):
    """All cameras of the tender, whenever one has changed; the tender's budget, as a share of a core; and how often a
    frame is kept, shop seconds."""

    kind: Literal["watch"] = "watch"
    cameras: list[WatchedCamera]
    budget: float
    keep_every_s: float = 30.0


class FramesKept(Wire):
    """Frames that the service has; the tender forgets them."""

    kind: Literal["kept"] = "kept"
    ids: list[str]


class Look(Wire):
    """How many frames a second of each size somebody wants of a camera; 0 when nobody looks."""

    kind: Literal["look"] = "look"
    camera: str
    full: float = 0.0
    small: float = 0.0


class TryCamera(Wire):
    """Take one frame of a camera that need not be known."""

    kind: Literal["try"] = "try"
    id: str
    what: CameraTest


class ListLocal(Wire):
    """Say which cameras there are at the tender's own computer."""

    kind: Literal["list"] = "list"
    id: str


FromCameras = CameraHello | CameraStands | WorkMeasured | CameraAnswer | SpoolTrouble
ToCameras = WatchCameras | Look | TryCamera | ListLocal | FramesKept
from_cameras: TypeAdapter[FromCameras] = TypeAdapter(Annotated[FromCameras, Field(discriminator="kind")])
to_cameras: TypeAdapter[ToCameras] = TypeAdapter(Annotated[ToCameras, Field(discriminator="kind")])


def pack_frame(head: FrameHead, jpeg: bytes) -> bytes:
    """A frame as one binary message."""
    text = head.model_dump_json(exclude_defaults=True).encode()
    return len(text).to_bytes(2, "big") + text + jpeg


def unpack_frame(message: bytes) -> tuple[FrameHead, bytes]:
    """Take a binary message apart. Raises ValueError (pydantic's included) when it is no frame."""
    length = int.from_bytes(message[:2], "big")
    head = FrameHead.model_validate_json(message[2 : 2 + length])
    jpeg = message[2 + length :]
    if not jpeg.startswith(b"\xff\xd8\xff"):
        raise ValueError("a frame must be a JPEG")
    return head, jpeg
