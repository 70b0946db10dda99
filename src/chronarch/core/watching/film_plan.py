"""Which of a build's frames its film shows, for how long each, and where in the film is what."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import groupby

from chronarch.core.watching.film_settings import MOST_SECONDS, FilmSettings
from chronarch.core.watching.frame_keeping import FrameReason

LATE = timedelta(seconds=60)
"""So long after the end of a build a frame still shows it."""


@dataclass(frozen=True)
class FilmFrame:
    """A kept frame of the build, and where in the build it was taken."""

    number: int
    at: datetime
    why: FrameReason
    layer: int


@dataclass(frozen=True)
class FilmShot:
    """A frame of the film, shown `times` pictures long. `mark` is written across it when it is not empty."""

    frame: FilmFrame
    times: int
    mark: str = ""


@dataclass(frozen=True)
class Moment:
    """Something that happened in the build: when (shop time), in words, and whether it ended it badly."""

    at: datetime
    text: str
    bad: bool = False


@dataclass(frozen=True)
class FilmMark:
    """Where in the film a moment is, in seconds."""

    second: float
    text: str
    bad: bool


@dataclass(frozen=True)
class FilmPlan:
    """The shots in their order. `layers` has, for each layer that is shown, its number and its first second."""

    fps: int
    shots: tuple[FilmShot, ...]
    marks: tuple[FilmMark, ...]
    layers: tuple[tuple[int, float], ...]

    @property
    def pictures(self) -> int:
        return sum(shot.times for shot in self.shots)

    @property
    def seconds(self) -> float:
        return self.pictures / self.fps


def plan_film(
    frames: Sequence[FilmFrame], settings: FilmSettings, moments: Sequence[Moment] = (), ended: datetime | None = None
) -> FilmPlan:
    """The film of a build's frames, which are in the order in which they were taken. Without a frame that the settings
    allow it is empty."""
    found = _shown(frames, settings, ended)
    chosen = _by_time(found, settings.every_s) if settings.by == "time" else _by_layer(found, settings)
    times = _times(len(chosen), settings)
    bad = {_at(chosen, moment.at): moment.text for moment in moments if moment.bad} if chosen else {}
    shots = tuple(
        FilmShot(frame, max(many, n in bad), bad.get(n, ""))
        for n, (frame, many) in enumerate(zip(chosen, times, strict=True))
        if many or n in bad
    )
    begins = _begins(shots, settings.fps)
    shown = [shot.frame for shot in shots]
    marks = [FilmMark(begins[_at(shown, m.at)], m.text, m.bad) for m in moments] if shots else []
    layers: dict[int, float] = {}
    for shot, second in zip(shots, begins, strict=True):
        layers.setdefault(shot.frame.layer, second)
    return FilmPlan(settings.fps, shots, tuple(marks), tuple(sorted(layers.items())))


def _shown(frames: Iterable[FilmFrame], settings: FilmSettings, ended: datetime | None) -> list[FilmFrame]:
    """What the film may show: nothing after the build, nothing of other layers. What comes before the first layer is
    shown by time, and where there is nothing else."""
    until = ended + LATE if ended else None
    found = [f for f in frames if f.why is not FrameReason.VERDICT and (until is None or f.at <= until)]
    last = settings.last_layer or max((f.layer for f in found), default=0)
    laid = [f for f in found if settings.first_layer <= f.layer <= last]
    from_the_start = settings.first_layer == 1 and (settings.by == "time" or not laid)
    return [f for f in found if f.layer <= last] if from_the_start else laid


def _by_layer(frames: Sequence[FilmFrame], settings: FilmSettings) -> list[FilmFrame]:
    """Of each layer so many frames, those before all others that were taken for it; and the very last one."""
    chosen: list[FilmFrame] = []
    wanted = {FrameReason.FILM} if settings.head_away else {FrameReason.FILM, FrameReason.LAYER}
    for _, of_layer in groupby(sorted(frames, key=lambda f: (f.layer, f.at)), lambda f: f.layer):
        mine = list(of_layer)
        best = [f for f in mine if f.why in wanted] or mine
        many = min(settings.per_layer, len(best))
        chosen += [best[k * len(best) // many] for k in range(many)]
    last = frames[-1] if frames else None
    if last is not None and last.why is not FrameReason.FILM and last not in chosen and not settings.last_layer:
        chosen.append(last)
    return chosen


def _by_time(frames: Sequence[FilmFrame], every_s: float) -> list[FilmFrame]:
    """A frame every so many seconds of shop time, as far as there are any, and the last one."""
    chosen: list[FilmFrame] = []
    due: datetime | None = None
    step = timedelta(seconds=every_s)
    for frame in frames:
        if due is None or frame.at >= due:
            chosen.append(frame)
            due = max((due or frame.at) + step, frame.at + step / 2)
    if frames and chosen[-1] != frames[-1]:
        chosen.append(frames[-1])
    return chosen


def _times(many: int, settings: FilmSettings) -> list[int]:
    """How many pictures long each of so many frames is shown; 0 for one that is left out."""
    if not many:
        return []
    first, last = round(settings.hold_first_s * settings.fps), round(settings.hold_last_s * settings.fps)
    length = settings.length_s or min(many / settings.fps + settings.hold_first_s + settings.hold_last_s, MOST_SECONDS)
    body = max(1, round(length * settings.fps) - first - last)
    times = [(k + 1) * body // many - k * body // many for k in range(many)]
    times[0] = max(times[0], 1) + first
    times[-1] = max(times[-1], 1) + last
    return times


def _begins(shots: Sequence[FilmShot], fps: int) -> list[float]:
    seconds, pictures = [], 0
    for shot in shots:
        seconds.append(pictures / fps)
        pictures += shot.times
    return seconds


def _at(frames: Sequence[FilmFrame], at: datetime) -> int:
    """The first of the frames that was taken at a time or later, or the last one."""
    return next((n for n, frame in enumerate(frames) if frame.at >= at), len(frames) - 1)
