"""Pictures of people: small, square, and without what a camera writes beside the picture."""

from __future__ import annotations

import io
from pathlib import Path

from PIL import Image, ImageOps, UnidentifiedImageError

from chronarch.service.problems import ApiProblem

SIDE_PX = 256
MOST_PX = 50_000_000


def portrait(path: Path) -> bytes:
    """The middle of a picture as a JPEG of `SIDE_PX` pixels a side. Raises ApiProblem (422)."""
    try:
        with Image.open(path, formats=("JPEG", "PNG")) as picture:
            if picture.width * picture.height > MOST_PX:
                raise ApiProblem(422, "This picture has more than 50 million pixels; take a smaller one.")
            upright = ImageOps.exif_transpose(picture).convert("RGB")
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError):
        raise ApiProblem(422, "This picture cannot be read; take another one.") from None
    out = io.BytesIO()
    ImageOps.fit(upright, (SIDE_PX, SIDE_PX)).save(out, "JPEG", quality=85)
    return out.getvalue()
