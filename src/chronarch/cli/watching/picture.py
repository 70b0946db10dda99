"""A picture in the terminal: two pixels a character, the upper half block over its ground."""

from __future__ import annotations

import io
import os
import shutil
import sys

from PIL import Image

UPPER_HALF = "▀"


def can_show() -> bool:
    """Whether standard output is a terminal that shows colours and half blocks."""
    encoding = (sys.stdout.encoding or "").lower()
    plain = os.environ.get("TERM", "dumb") == "dumb" or "NO_COLOR" in os.environ
    return sys.stdout.isatty() and "utf" in encoding and not plain


def half_blocks(jpeg: bytes, columns: int, rows: int) -> list[str]:
    """A picture as lines of text with 24-bit colours, no larger than the room there is."""
    with Image.open(io.BytesIO(jpeg), formats=["JPEG"]) as image:
        small = image.convert("RGB")
    small.thumbnail((columns, 2 * rows), Image.Resampling.BOX)
    width, height = small.width, small.height // 2 * 2
    pixels = small.load()
    lines = []
    for y in range(0, height, 2):
        cells = []
        before = ""
        for x in range(width):
            upper, lower = pixels[x, y], pixels[x, y + 1]  # type: ignore[index]
            colours = "\x1b[38;2;{};{};{};48;2;{};{};{}m".format(*upper, *lower)  # type: ignore[misc]
            cells.append((colours if colours != before else "") + UPPER_HALF)
            before = colours
        lines.append("".join(cells) + "\x1b[0m")
    return lines


def show_picture(jpeg: bytes) -> None:
    """Draw a picture as large as the terminal has room for."""
    columns, rows = shutil.get_terminal_size()
    sys.stdout.write("\n".join(half_blocks(jpeg, columns, max(4, rows - 3))) + "\n")
