"""Where a camera is reached: its address, read and checked.

http://HOST/PATH, https://HOST/PATH   one JPEG for each request, or pictures without end (multipart/x-mixed-replace)
rtsp://HOST/PATH                      a stream (RFC 7826, RFC 2326)
device:///dev/v4l/by-id/NAME          a camera at the tender's own computer, by its stable path
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal
from urllib.parse import unquote, urlsplit, urlunsplit

from chronarch.core.errors import CoreError
from chronarch.core.machines.address import without_secrets

Kind = Literal["http", "https", "rtsp", "device"]
USUAL_PORT = {"http": 80, "https": 443, "rtsp": 554}
LOOKS = "http://HOST/PATH, https://HOST/PATH, rtsp://HOST/PATH or device:///dev/v4l/by-id/NAME"


class NotACameraAddress(CoreError, ValueError):
    """The text is no address of a camera; the message says what one looks like."""


@dataclass(frozen=True)
class CameraAddress:
    """An address, taken apart. `url` has neither login nor password; `device` is the path of a local camera."""

    kind: Kind
    url: str
    host: str = ""
    port: int = 0
    device: str = ""
    login: str = ""
    password: str = ""


def parse_camera_address(text: str) -> CameraAddress:
    """Take an address apart. Raises NotACameraAddress; its message holds no password."""
    text = text.strip()
    shown = without_secrets(text)
    try:
        url = urlsplit(text)
        port = url.port
    except ValueError:
        wrong = f"The port of this address is no number, or a bracket is missing; write {LOOKS}."
        raise NotACameraAddress(wrong) from None
    kind = url.scheme.lower()
    if kind == "device":
        path = unquote(url.path)
        if url.netloc or not path.startswith("/") or len(path) < 2 or ".." in path.split("/"):
            raise NotACameraAddress(f"{shown!r} names no local camera; write device:///dev/v4l/by-id/NAME.")
        return CameraAddress("device", f"device://{path}", device=path)
    if kind not in ("http", "https", "rtsp"):
        raise NotACameraAddress(f"{shown!r} is no camera's address; write {LOOKS}.")
    if not url.hostname:
        raise NotACameraAddress(f"{shown!r} names no host; write {kind}://HOST/PATH.")
    host = url.hostname
    place = f"[{host}]" if ":" in host else host
    bare = urlunsplit((kind, f"{place}:{port}" if port else place, url.path, url.query, ""))
    return CameraAddress(
        kind,  # type: ignore[arg-type]
        bare,
        host,
        port or USUAL_PORT[kind],
        login=unquote(url.username or ""),
        password=unquote(url.password or ""),
    )
