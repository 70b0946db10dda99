"""How fast films are made, beside a bare encoder of the same frames at the same settings in the same run: JPEGs are
decoded and encoded there, with no stamp, no fitting and no progress. Run it with `make bench`."""

from __future__ import annotations

import statistics
import tempfile
import time
from pathlib import Path

import av
import numpy as np
from av.video.frame import PictureType
from PIL import Image

from chronarch.core.watching.film_settings import FilmForm
from chronarch.service.watching.film_encoding import ENCODERS, KEY_EVERY_S, FilmOrder, FilmPicture, encode

FRAMES, FPS, SIZE, TURNS = 200, 25, (1280, 720), 3
FORMS: tuple[FilmForm, ...] = ("webm", "mp4")
LEAST_RATIO = 0.8


def draw(folder: Path) -> list[str]:
    """A part that grows on a bed, with the noise of a camera."""
    noise = np.random.default_rng(1)
    slope = np.linspace(40, 120, SIZE[0])[None, :, None] + np.zeros((SIZE[1], 1, 3))
    paths = []
    for n in range(FRAMES):
        pixels = slope + noise.normal(0, 6, (SIZE[1], SIZE[0], 3))
        pixels[620 - 2 * n : 620, 400:880] = (32, 150, 146)
        path = folder / f"{n}.jpg"
        Image.fromarray(np.clip(pixels, 0, 255).astype("uint8")).save(path, "JPEG", quality=80)
        paths.append(str(path))
    return paths


def bare(paths: list[str], out: Path, form: FilmForm) -> float:
    """Frames a second of the encoder alone."""
    name, options, container_options = ENCODERS[form]
    began = time.perf_counter()
    with av.open(str(out), "w", format=form, options=container_options) as container:
        stream = container.add_stream(name, rate=FPS, options=options)
        stream.gop_size = round(KEY_EVERY_S * FPS)
        stream.width, stream.height, stream.pix_fmt, stream.bit_rate, stream.thread_count = *SIZE, "yuv420p", 0, 1
        for path in paths:
            with av.open(path) as picture:
                frame = next(picture.decode(video=0))
            frame = frame.reformat(format="yuv420p")
            frame.pts, frame.pict_type = None, PictureType.NONE  # a JPEG would be a key picture each time
            container.mux(stream.encode(frame))
        container.mux(stream.encode())
    return len(paths) / (time.perf_counter() - began)


def ours(paths: list[str], out: Path, form: FilmForm) -> float:
    pictures = tuple(
        FilmPicture(path, 1, f"09:{n % 60:02d}   layer {n} of {len(paths)}") for n, path in enumerate(paths)
    )
    began = time.perf_counter()
    encode(FilmOrder(pictures, str(out), f"{out}.jpg", form, FPS, SIZE[0]))
    return len(paths) / (time.perf_counter() - began)


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        paths = draw(folder)
        for form in FORMS:
            turns = [(bare(paths, folder / f"bare.{form}", form), ours(paths, folder / f"ours.{form}", form)) for _ in range(TURNS)]  # fmt: skip  # noqa: E501
            alone, made = (statistics.median(figures) for figures in zip(*turns, strict=True))
            said = "" if made / alone >= LEAST_RATIO else f"  under the limit of {LEAST_RATIO}"
            print(f"{form}: {made:.0f} frames/s, the bare encoder {alone:.0f}: ratio {made / alone:.2f}{said}")


if __name__ == "__main__":
    main()
