"""How well the watch does on labelled frames. Needs no service; loads the watch, which takes a while."""

from __future__ import annotations

import functools
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn

from chronarch.cli.context import REFUSED, fail
from chronarch.cli.output import duration, show_json, show_table
from chronarch.cli.plain import say
from chronarch.cli.watching.labelled_folder import LabelledFrame, SetWatcher, UnreadableSet, as_row, read_labels, scored
from chronarch.core.watching.judgement import Judge
from chronarch.core.watching.scoring import ScoredFrame, SetScore, ThresholdScore, score

ACCEPTED_PER_WEEK = (1.0, 7.0, 24.0)


@functools.cache
def stderr() -> Console:
    return Console(stderr=True)


def score_set(folder: Path, accepted: tuple[float, ...], workers: int, as_json: bool) -> None:
    """Score a folder and show the result. Ends the command for one that cannot be read."""
    rates = [week / 168 for week in accepted or ACCEPTED_PER_WEEK]
    try:
        sequences = list(read_labels(folder).values())
        found: list[tuple[ScoredFrame, dict[str, Any]]] = []
        columns = (TextColumn("watching"), BarColumn(), TextColumn("{task.completed} of {task.total} frames"))
        with Progress(*columns, transient=True, console=stderr(), disable=not stderr().is_terminal) as progress:
            task = progress.add_task("", total=sum(map(len, sequences)))
            for one in _run(folder, sequences, workers):
                found += one
                progress.advance(task, len(one))
    except UnreadableSet as error:
        fail(str(error), REFUSED)
    result = score((frame for frame, _ in found), rates)
    if as_json:
        return show_json({"score": result, "frames": [row for _, row in found]})
    _show(result)


def _run(folder: Path, sequences: list[list[LabelledFrame]], workers: int) -> Any:
    watched = functools.partial(_sequence, folder)
    if workers == 1:
        yield from map(watched, sequences)
        return
    with ProcessPoolExecutor(workers) as pool:
        yield from pool.map(watched, sequences)


def _sequence(folder: Path, frames: list[LabelledFrame]) -> list[tuple[ScoredFrame, dict[str, Any]]]:

    from chronarch.core.watching.learned import LEARNED

    watcher = SetWatcher(folder, lambda: Judge(LEARNED))
    return [(scored(one), as_row(one)) for one in watcher.watch(frames)]


def _show(result: SetScore) -> None:
    say(f"{result.sequences} sequences, {result.frames} frames, {result.good_h:.1f} h of good building; "
        f"{result.judged} frames judged, {result.ms_per_frame:.0f} ms each.")  # fmt: skip
    say(f"Of the frames that cannot be judged {result.rightly_unjudged} were left out, of all others "
        f"{result.wrongly_unjudged}. Calibration error {result.calibration_error:.3f}.")  # fmt: skip
    for setting in result.settings:
        _show_setting(setting)
    kinds = sorted({raised for row in result.confusion.values() for raised in row})
    say("\nWhat was raised first, at the default setting:")
    show_table(
        ("Label", *kinds),
        [[label, *(str(row.get(kind, "")) for kind in kinds)] for label, row in sorted(result.confusion.items())],
        "",
    )


def _show_setting(setting: ThresholdScore) -> None:
    asked = "default setting" if setting.accepted_per_h is None else f"at most {setting.accepted_per_h * 168:g} a week"
    rate = "" if setting.false_per_h is None else f", {setting.false_per_h * 168:.2f} a week of building"
    if setting.threshold >= 1:
        say(f"\n{asked.capitalize()}: nothing can be raised; at every threshold more false alarms come.")
        return
    say(f"\n{asked.capitalize()}: alarm from {setting.threshold:g}; {setting.false_alarms} false alarms{rate}.")
    rows = [
        [one.label, str(one.sequences), *map(_share, (one.recall, one.in_time, one.precision, one.named)),
         "" if one.delay_s is None else duration(one.delay_s)] for one in setting.labels if one.sequences
    ]  # fmt: skip
    show_table(
        ("Label", "Sequences", "Recall", "In 10 min", "Precision", "Named right", "Delay"),
        rows,
        "Nothing fails in this set.",
    )


def _share(value: float | None) -> str:
    return "" if value is None else f"{value:.2f}"
