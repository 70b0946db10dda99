"""Makes a film's file of JPEGs, in a process of its own that works only when nobody else wants the processor."""

from __future__ import annotations

import errno
import io
import os
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from fractions import Fraction
from multiprocessing.sharedctypes import Synchronized
from pathlib import Path

import av
from PIL import Image, ImageDraw, ImageFont

from chronarch.core.errors import CoreError
from chronarch.core.watching.film_settings import FilmForm

NICE = 15
NO_ROOM = frozenset({errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EIO})
ENCODERS: dict[FilmForm, tuple[str, dict[str, str], dict[str, str]]] = {
    "webm": ("libvpx-vp9", {"deadline": "realtime", "cpu-used": "6", "crf": "33", "row-mt": "0"}, {}),
    "mp4": ("libx264", {"preset": "veryfast", "crf": "24"}, {"movflags": "+faststart"}),
}
"""By form: the encoder, its options at constant quality, and those of the container."""
KEY_EVERY_S = 0.5
"""Whoever scrubs lands on a key picture so often."""
MARGIN, INK, PLATE, BAD = 0.018, (246, 241, 229), (20, 22, 26), (150, 44, 34)
"""Of a picture's width; colours of what is written, of the plate under it, and of the plate of a failure."""


class NoPictures(CoreError):
    """None of the frames could be read."""


@dataclass(frozen=True)
class FilmPicture:
    """A JPEG, how many pictures long it is shown, and what is written on it: in the corner, and across the bottom."""

    path: str
    times: int
    stamp: str = ""
    mark: str = ""


@dataclass(frozen=True)
class FilmOrder:
    """A film to be made: what it shows, and where the film and the picture that stands for it are written."""

    pictures: tuple[FilmPicture, ...]
    out: str
    poster: str
    form: FilmForm
    fps: int
    width_px: int


@dataclass(frozen=True)
class EncodedFilm:
    pictures: int
    width: int
    height: int
    unread: int
    """Frames that could not be read; the one before each is shown longer."""


_done: Synchronized[int] | None = None


def enter(done: Synchronized[int]) -> None:
    """Begin as the process of films. `done` counts the frames that have been read."""
    global _done
    _done = done
    os.nice(NICE)
    with suppress(OSError, AttributeError):
        os.sched_setscheduler(0, os.SCHED_BATCH, os.sched_param(0))


def encode(order: FilmOrder) -> EncodedFilm:
    """Make the film. Raises NoPictures, and OSError when it cannot be written."""
    try:
        return _encode(order)
    except av.FFmpegError as error:
        if error.errno in NO_ROOM:
            raise OSError(error.errno, os.strerror(error.errno)) from None
        raise


def _encode(order: FilmOrder) -> EncodedFilm:
    first = next(filter(None, (_opened(picture.path) for picture in order.pictures)), None)
    if first is None:
        raise NoPictures("none of its frames could be read")
    size = _even_size(first.size, order.width_px)
    name, options, container_options = ENCODERS[order.form]
    unread, shown = 0, 0
    last: Image.Image | None = None
    with av.open(order.out, "w", format=order.form, options=container_options) as container:
        stream = container.add_stream(name, rate=order.fps, options=options)
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = *size, "yuv420p"
        stream.bit_rate = 0
        stream.thread_count = 1
        stream.gop_size = max(1, round(KEY_EVERY_S * order.fps))
        tick = Fraction(1, order.fps)
        for picture, image in _pictures(order, size):
            unread += image is None
            last = image or last
            if last is None:
                continue
            frame: av.VideoFrame = av.VideoFrame.from_image(last)  # type: ignore[no-untyped-call]
            for _ in range(picture.times):
                frame.pts, frame.time_base = shown, tick
                container.mux(stream.encode(frame))
                shown += 1
        container.mux(stream.encode())
    assert last is not None
    last.save(order.poster, "JPEG", quality=85)
    return EncodedFilm(shown, *size, unread)


def _pictures(order: FilmOrder, size: tuple[int, int]) -> Iterator[tuple[FilmPicture, Image.Image | None]]:
    for picture in order.pictures:
        image = _opened(picture.path, size)
        yield picture, _written(image, picture) if image else None
        if _done is not None:
            _done.value += 1


def _even_size(size: tuple[int, int], width_px: int) -> tuple[int, int]:
    """At most so wide, with even sides as the encoders want them."""
    scale = min(1.0, width_px / size[0])
    return max(2, round(size[0] * scale) // 2 * 2), max(2, round(size[1] * scale) // 2 * 2)


def _opened(path: str, size: tuple[int, int] | None = None) -> Image.Image | None:
    """A JPEG at a size, within a black frame if its shape is another; None when it cannot be read."""
    try:
        read = Image.open(io.BytesIO(Path(path).read_bytes()), formats=["JPEG"])
        if size is None:
            return read
        read.draft("RGB", size)
        image = read.convert("RGB")
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return None
    if image.size == size:
        return image
    scale = min(size[0] / image.width, size[1] / image.height)
    fitted = image.resize(
        (max(1, round(image.width * scale)), max(1, round(image.height * scale))), Image.Resampling.BOX
    )
    whole = Image.new("RGB", size)
    whole.paste(fitted, ((size[0] - fitted.width) // 2, (size[1] - fitted.height) // 2))
    return whole


def _written(image: Image.Image, picture: FilmPicture) -> Image.Image:
    if not (picture.stamp or picture.mark):
        return image
    draw, width = ImageDraw.Draw(image, "RGBA"), image.width
    edge, font = round(width * MARGIN), ImageFont.load_default(max(16, round(width * 0.022)))
    height = round(font.getbbox("Ag0")[3]) + edge
    if picture.mark:
        top = image.height - height - edge // 2
        draw.rectangle((0, top, width, image.height), fill=(*BAD, 235))
        for x in range(-height, width + height, edge * 2):  # told from the plate by pattern, not by colour alone
            draw.line((x, image.height, x + edge, image.height - edge // 2), fill=(*INK, 120), width=max(2, edge // 6))
        draw.text((edge, top + edge // 2), picture.mark, INK, font)
    if picture.stamp:
        left, top = edge, edge
        box = draw.textbbox((left, top), picture.stamp, font)
        pad = edge // 2
        draw.rectangle((box[0] - pad, box[1] - pad, box[2] + pad, box[3] + pad), fill=(*PLATE, 170))
        draw.text((left, top), picture.stamp, INK, font)
    return image
