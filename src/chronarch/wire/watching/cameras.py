"""Cameras: how they are set up, and how they are now."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, StringConstraints, field_validator, model_validator

from chronarch.core.library.names import check_name
from chronarch.core.watching.camera_address import parse_camera_address
from chronarch.core.watching.camera_settings import CameraSettings, Crop
from chronarch.wire.common import COMPOSED, Label, Time, Wire, as_is

as_is(CameraSettings, Crop)

Address = Annotated[str, StringConstraints(min_length=1, max_length=500)]
Login = Annotated[str, Field(max_length=120, pattern=r"^[^\x00-\x1f\x7f]*$"), COMPOSED]
Password = Annotated[str, Field(max_length=200, pattern=r"^[^\x00-\x1f\x7f]*$")]


def _checked(value: str | None) -> str | None:
    if value is not None:
        parse_camera_address(value)
    return value


class CameraAccess(Wire):
    """Where a camera is, and how to be let in."""

    address: Address = Field(examples=["http://192.0.2.7/snapshot.jpg", "device:///dev/v4l/by-id/usb-cam-0007"])
    login: Login = ""
    """A login and a password may be written in the address as well."""
    password: Password = ""

    _address = field_validator("address")(_checked)


class NewCamera(CameraAccess):
    """A camera to be added: it looks at a machine, or at a room or shelf of a site."""

    name: str = Field(min_length=1, max_length=60, examples=["Anchor front"])
    machine: Label = ""
    site: Label = ""
    place: Label = Field(default="", examples=["shelf A"])
    """What it looks at where that is no machine."""
    tender: Label = Field(default="", examples=["tender"])
    """Whose computer reaches it; without one, the machine's tender."""
    first: bool = False
    """Whether it is the one that stands for its machine; a machine's only camera is so anyhow."""
    settings: CameraSettings = CameraSettings()

    @field_validator("name")
    @classmethod
    def _name(cls, value: str) -> str:
        return check_name(value)

    @model_validator(mode="after")
    def _looks_at_something(self) -> Self:
        if not (self.machine or self.tender):
            raise ValueError("say which machine it looks at, or, for a room, which tender reaches it")
        return self


class CameraChange(Wire):
    """What may be changed of a camera; what is left out stays."""

    name: str | None = Field(default=None, min_length=1, max_length=60)
    machine: Label | None = None
    """Empty: it looks at a room."""
    site: Label | None = None
    place: Label | None = None
    address: Address | None = None
    login: Login | None = None
    password: Password | None = None
    first: Literal[True] | None = None
    settings: CameraSettings | None = None

    _address = field_validator("address")(_checked)

    @field_validator("name")
    @classmethod
    def _name(cls, value: str | None) -> str | None:
        return None if value is None else check_name(value)


class CameraTest(CameraAccess):
    """A camera that is only to be tried."""

    tender: Label = "tender"
    camera: Label = ""
    """A camera whose password is used if none is given and the address is still its own."""
    settings: CameraSettings = CameraSettings()


class CameraTried(Wire):
    """The frame that a test has taken."""

    width: int
    height: int
    size: int
    """Bytes."""
    took_s: float
    """How long it took from asking to the whole frame, real seconds."""
    warning: str = ""
    """What should be known of it, such as that the next frame is long in coming."""
    jpeg: str
    """The frame, base64."""


class CameraTrouble(Wire):
    """Why there are no pictures, what to do about it, and since when."""

    text: str
    since: Time
    """Real time."""


class Camera(Wire):
    """One camera, as it is now."""

    name: str
    machine: str = ""
    site: str = ""
    place: str = ""
    tender: str
    address: str
    """Without secrets."""
    login: str = ""
    has_password: bool = False
    first: bool = False
    settings: CameraSettings = CameraSettings()
    frame_at: Time | None = None
    """When its newest frame was taken; None without one."""
    width: int = 0
    height: int = 0
    """Of its newest frame, pixels."""
    frames_per_s: float = 0.0
    """Frames a real second, as they come now."""
    looked_at_by: int = 0
    """How many readers of live pictures look at it now."""
    trouble: CameraTrouble | None = None
    """None while pictures come, and before the first was asked for."""


class LocalCamera(Wire):
    """A camera at a tender's own computer."""

    address: str
    serial: str = ""
    """The serial number that it says of itself; empty when it has none, and only its socket tells it from another."""
    name: str = ""
    camera: str = ""
    """The name of the camera that has this address already."""


class CameraWork(Wire):
    """What the cameras of a tender cost it now."""

    tender: str
    cameras: int
    failing: int
    budget: float
    """The share of one processor core that they may take."""
    used: float
    """The share that they take."""
    factor: float
    """What is left of the rates that are asked for, 0 to 1."""
