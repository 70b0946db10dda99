"""`chronarch watch`; what it is told of and asked by a service is in modules of its own."""

from __future__ import annotations

from pathlib import Path

import click

from chronarch.cli.context import json_option


@click.group()
def watch() -> None:
    """The watch: what it suspects, what follows, and how well it does on labelled frames."""


@watch.command("score")
@click.argument("folder", type=click.Path(exists=True, file_okay=False, path_type=Path))
@click.option(
    "--accept",
    "accepted",
    type=click.FloatRange(0, 10_000),
    multiple=True,
    help="False alarms a week of building that would be put up with; may be given several times.  [default: 1, 7, 24]",
)
@click.option(
    "--workers", type=click.IntRange(1, 64), default=1, show_default=True, help="Processes that share the work."
)
@json_option
def score(folder: Path, accepted: tuple[float, ...], workers: int, as_json: bool) -> None:  # fmt: skip
    """Run the watch over a folder of labelled frames and say what it caught, how soon, and what it raised for nothing.
    docs/watch.md describes the folder."""
    from chronarch.cli.watching.score import score_set  # loads OpenCV, which no other command needs

    score_set(folder, accepted, workers, as_json)
