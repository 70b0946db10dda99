"""Cameras that give a video: over RTSP, and at this computer (Video4Linux, or a named pipe of JPEGs). A thread reads it
with PyAV and has its newest picture.
"""

from __future__ import annotations

import asyncio
import io
import os
import stat
import threading
from datetime import datetime
from pathlib import Path
from urllib.parse import quote, urlsplit, urlunsplit

import av
import av.error
from av.container import InputContainer
from PIL import Image

from chronarch.tender.peripherals.camera_sources.source import (
    ANSWER_S,
    LARGEST,
    NEXT_S,
    CameraFailed,
    CameraSetup,
    Shot,
    Source,
)
from chronarch.tender.peripherals.local_cameras import FOLDERS

SELDOM_FROM_S = 2.0
JPEG, HUFFMAN, HEADS = b"\xff\xd8\xff", b"\xff\xc4", 4096
MOST_PIXELS = 7680 * 4320
VIDEO4LINUX = 81
"""The major number of video devices."""
av.logging.set_level(None)  # what FFmpeg says of an address may hold a password


class VideoCamera(Source):
    """One open video."""

    def __init__(self, setup: CameraSetup) -> None:
        super().__init__(setup)
        self._reader: VideoReader | None = None

    async def shot(self, next_in_s: float) -> Shot:
        if self._reader is None:
            path, options, form = await self._where()
            self._reader = VideoReader(path, options, form, self.setup)
        reader = self._reader
        reader.seldom = next_in_s >= SELDOM_FROM_S
        loop = asyncio.get_running_loop()
        deadline_s = loop.time() + ANSWER_S + NEXT_S
        while (got := reader.take()) is None:
            if reader.problem:
                raise CameraFailed(reader.problem)
            if loop.time() > deadline_s:
                raise CameraFailed(f"no picture within {ANSWER_S + NEXT_S:.0f} s; unplug it and plug it in again")
            await asyncio.sleep(0.01)
        picture, began = got
        return self.setup.shot(await asyncio.to_thread(self._encoded, picture), began)

    async def close(self) -> None:
        if self._reader is not None:
            self._reader.stop()

    def _encoded(self, picture: bytes | av.VideoFrame) -> bytes:
        if isinstance(picture, bytes):
            return picture
        out = io.BytesIO()
        image: Image.Image = picture.to_image()  # type: ignore[no-untyped-call]
        image.save(out, "JPEG", quality=self.setup.settings.quality)
        return out.getvalue()

    async def _where(self) -> tuple[str, dict[str, str], str | None]:
        """What PyAV opens, with its options and the form of what comes. Raises CameraFailed."""
        address = self.setup.address
        if address.kind == "rtsp":
            at = await self.setup.host()
            url = urlsplit(address.url)
            login = f"{quote(address.login, safe='')}:{quote(address.password, safe='')}@" if address.login else ""
            place = f"{login}{f'[{at}]' if ':' in at else at}:{address.port}"
            options = {
                "rtsp_transport": "tcp", "protocol_whitelist": "rtsp,rtp,tcp", "fflags": "nobuffer",
                "analyzeduration": "500000",
            }  # fmt: skip
            return urlunsplit(("rtsp", place, url.path, url.query, "")), options, "rtsp"
        return await asyncio.to_thread(self._device)

    def _device(self) -> tuple[str, dict[str, str], str | None]:
        path = Path(self.setup.address.device)
        if path.parent not in FOLDERS:  # opening another device could do something to it
            raise CameraFailed(f"local cameras are in {FOLDERS[0]}, and this is elsewhere")
        try:
            found = path.stat()
        except OSError:
            raise CameraFailed("it is not plugged in") from None
        if stat.S_ISFIFO(found.st_mode):
            return str(path), {}, "mjpeg"
        if not stat.S_ISCHR(found.st_mode) or os.major(found.st_rdev) != VIDEO4LINUX:
            raise CameraFailed("that is no camera; `chronarch cameras local` lists those that are plugged in")
        settings = self.setup.settings
        options = {"input_format": "mjpeg"}
        if settings.width_px:
            options["video_size"] = f"{settings.width_px}x{round(settings.width_px * 9 / 16)}"
        return str(path), options, "v4l2"


class VideoReader:
    """Reads in a thread of its own until told to stop, or until the video ends."""

    def __init__(self, path: str, options: dict[str, str], form: str | None, setup: CameraSetup) -> None:
        self._path, self._options, self._form, self._setup = path, options, form, setup
        self._lock = threading.Lock()
        self._newest: tuple[bytes | av.VideoFrame, datetime] | None = None
        self._stopped = False
        self.seldom = False
        """Whether a picture now and then is enough: then only those are decoded that need no other."""
        self.problem = ""
        self.thread = threading.Thread(target=self._run, name="video", daemon=True)
        self.thread.start()

    def take(self) -> tuple[bytes | av.VideoFrame, datetime] | None:
        with self._lock:
            newest, self._newest = self._newest, None
        return newest

    def stop(self) -> None:
        self._stopped = True

    def _run(self) -> None:
        try:
            with av.open(
                self._path, format=self._form, options=self._options, timeout=(ANSWER_S, NEXT_S), mode="r"
            ) as video:
                self._read(video)
            self.problem = "it ended its video; is somebody else using it?"
        except CameraFailed as error:
            self.problem = str(error)
        except (av.error.FFmpegError, OSError, ValueError, IndexError) as error:
            self.problem = _why(error)

    def _read(self, video: InputContainer) -> None:
        if not video.streams.video:
            raise CameraFailed("it gives no video")
        stream = video.streams.video[0]
        codec = stream.codec_context
        codec.thread_count = 1
        if codec.width * codec.height > MOST_PIXELS:
            raise CameraFailed(f"its video has {codec.width} x {codec.height} pixels; lower its resolution")
        for packet in video.demux(stream):
            began = self._setup.clock.real_now()
            if self._stopped:
                return
            if packet.size > LARGEST:
                raise CameraFailed(f"its picture has {packet.size / 1e6:.0f} MB; lower its resolution")
            if codec.name == "mjpeg" and _is_whole(jpeg := bytes(packet)):
                self._keep(jpeg, began)
                continue
            codec.skip_frame = "NONKEY" if self.seldom else "DEFAULT"
            for frame in packet.decode():
                self._keep(frame, began)

    def _keep(self, picture: bytes | av.VideoFrame, began: datetime) -> None:
        with self._lock:
            self._newest = picture, began


def _is_whole(jpeg: bytes) -> bool:
    """Whether it can be shown as it is: many local cameras leave out the tables that all such videos share."""
    return jpeg.startswith(JPEG) and HUFFMAN in jpeg[:HEADS]


def _why(error: Exception) -> str:
    """What failed and what to do."""
    match error:
        case av.error.ConnectionRefusedError():
            return "the connection is refused: nothing listens at that port"
        case av.error.HTTPUnauthorizedError():
            return "it answers 401: login or password is wrong, or missing"
        case av.error.HTTPNotFoundError():
            return "it answers 404; is the path of its stream right?"
        case av.error.ExitError() | av.error.TimeoutError():
            return f"timed out after {ANSWER_S:.0f} s; is it switched on, is the address right?"
        case av.error.InvalidDataError():
            return "what it sends is no video that can be read"
        case av.error.BlockingIOError() | av.error.OSError() if getattr(error, "errno", 0) == 16:
            return "another program is using it"
    return f"it cannot be read ({getattr(error, 'strerror', '') or type(error).__name__})"
