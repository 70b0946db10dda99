"""Pictures as a camera gives them."""

from __future__ import annotations

import io

from PIL import Image


def jpeg(shade: int, width: int = 64, kind: str = "JPEG") -> bytes:
    """A grey picture, 48 pixels high; `shade` from 0 to 255."""
    out = io.BytesIO()
    Image.new("L", (width, 48), shade).save(out, kind)
    return out.getvalue()
