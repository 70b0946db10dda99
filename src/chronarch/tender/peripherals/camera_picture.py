"""What is made of a camera's picture before anybody sees it: turned, mirrored, cut and scaled as its settings say; and
a small one beside it."""

from __future__ import annotations

import io
from dataclasses import dataclass

from PIL import Image

from chronarch.core.watching.camera_settings import CameraSettings
from chronarch.tender.peripherals.camera_sources.source import CameraFailed

SMALL_PX, SMALL_QUALITY = 480, 72
MOST_PIXELS = 50_000_000
TURN = {90: Image.Transpose.ROTATE_270, 180: Image.Transpose.ROTATE_180, 270: Image.Transpose.ROTATE_90}


@dataclass(frozen=True)
class Picture:
    """A JPEG with its size in pixels."""

    jpeg: bytes
    width: int
    height: int


def full_picture(jpeg: bytes, settings: CameraSettings) -> Picture:
    """The picture as people see it. Raises CameraFailed when it cannot be decoded."""
    with _opened(jpeg) as image:
        if settings.as_it_comes:
            return Picture(jpeg, *image.size)
        return _packed(_shaped(_decoded(image), settings), settings.quality)


def check_picture(picture: Picture) -> None:
    """Raises CameraFailed when it cannot be decoded to its end."""
    with _opened(picture.jpeg) as image:
        _decoded(image)


def small_picture(full: Picture) -> Picture:
    """The same, `SMALL_PX` wide or high at most."""
    if max(full.width, full.height) <= SMALL_PX:
        return full
    with _opened(full.jpeg) as image:
        image.draft("RGB", (SMALL_PX, SMALL_PX))  # JPEG is decoded at a half, a quarter or an eighth: much cheaper
        small = _decoded(image)
        small.thumbnail((SMALL_PX, SMALL_PX), Image.Resampling.BILINEAR)
        return _packed(small, SMALL_QUALITY)


def _opened(jpeg: bytes) -> Image.Image:
    try:
        image = Image.open(io.BytesIO(jpeg), formats=["JPEG"])
    except (OSError, ValueError, Image.DecompressionBombError):
        raise CameraFailed("what it sends begins as a JPEG but is none") from None
    if image.width * image.height > MOST_PIXELS:
        image.close()
        raise CameraFailed(f"its picture has {image.width} x {image.height} pixels; lower its resolution")
    return image


def _decoded(image: Image.Image) -> Image.Image:
    try:
        image.load()
        return image if image.mode in ("RGB", "L") else image.convert("RGB")
    except (OSError, ValueError, SyntaxError):
        raise CameraFailed("its JPEG is damaged or cut short") from None


def _shaped(image: Image.Image, settings: CameraSettings) -> Image.Image:
    crop = settings.crop
    if crop.cuts:
        w, h = image.size
        box = (round(w * crop.left), round(h * crop.top), round(w * (1 - crop.right)), round(h * (1 - crop.bottom)))
        image = image.crop((box[0], box[1], max(box[0] + 1, box[2]), max(box[1] + 1, box[3])))
    if settings.turn:
        image = image.transpose(TURN[settings.turn])
    if settings.mirror:
        image = image.transpose(Image.Transpose.FLIP_LEFT_RIGHT)
    if 0 < settings.width_px < image.width:
        height = max(1, round(image.height * settings.width_px / image.width))
        image = image.resize((settings.width_px, height), Image.Resampling.BILINEAR)
    return image


def _packed(image: Image.Image, quality: int) -> Picture:
    out = io.BytesIO()
    image.save(out, "JPEG", quality=quality)
    return Picture(out.getvalue(), *image.size)
