"""Cameras at this computer, by the stable names that udev gives them: the name holds the serial number, so that a
camera is found again whatever socket it is plugged into. /dev/videoN, which changes, is never used.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

from chronarch.wire.watching.cameras import LocalCamera

FOLDERS = (
    Path(os.environ.get("CHRONARCH_LOCAL_CAMERAS", "/dev/v4l/by-id")),
    Path("/dev/v4l/by-id"),
    Path("/dev/v4l/by-path"),
)
"""Where local cameras are; the first is listed."""
_NAME = re.compile(r"(?:usb-)?(?P<name>.*?)(?:_(?P<serial>[0-9A-Za-z.:-]{2,}))?-video-index0")


def local_cameras(folder: Path = FOLDERS[0]) -> list[LocalCamera]:
    """All of them. A camera that makes itself known more than once (its metadata) is listed once."""
    try:
        found = sorted(path for path in folder.iterdir() if path.exists())
    except OSError:
        return []
    cameras = []
    for path in found[:200]:
        named = _NAME.fullmatch(path.name)
        if named is not None:
            name = named["name"].replace("_", " ").strip()
            cameras.append(LocalCamera(address=f"device://{path}", serial=named["serial"] or "", name=name))
    return cameras
