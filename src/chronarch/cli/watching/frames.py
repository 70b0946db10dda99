"""`chronarch builds frames`."""

from __future__ import annotations

from pathlib import Path

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.groups import build_number, builds
from chronarch.cli.output import clock_time, show_json, show_table, size_text
from chronarch.cli.plain import say
from chronarch.client import requests


@builds.command()
@click.argument("build")
@click.option("--camera", default="", help="Of this camera only.")
@click.option(
    "-o", "--out", type=click.Path(file_okay=False, path_type=Path), help="Put the pictures into this folder."
)
@json_option
@pass_service
def frames(service: Service, build: str, camera: str, out: Path | None, as_json: bool) -> None:
    """The kept frames of a build: when, where in it, and why each is kept."""
    number = build_number(service, build)
    found = service.all(requests.frames_of_build(number, camera))
    if as_json:
        return show_json(found)
    if out is None:
        rows = [[str(f.number), f.camera, clock_time(f.at), str(f.layer or ""), str(f.command or ""), f.why,
                 size_text(f.size)] for f in found]  # fmt: skip
        return show_table(("Frame", "Camera", "Taken", "Layer", "Command", "Why", "Size"), rows,
                          f"No frames of build {number} are kept.")  # fmt: skip
    out.mkdir(parents=True, exist_ok=True)
    for n, frame in enumerate(found):
        path = out / f"{n:05d}-{frame.camera.replace('/', '_')}-layer-{frame.layer}-{frame.why}.jpg"
        path.write_bytes(service.do(requests.kept_frame(frame.number)))
    say(f"{len(found)} frames are in {out}.")
