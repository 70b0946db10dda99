"""A folder of labelled frames: `frames.jsonl` and, beside it, the pictures and G-code that it names. docs/watch.md
describes it."""

from __future__ import annotations

import json
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from chronarch.core.errors import NotGcode
from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.gcode.kernel_layout import Bytes
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.machines.model import MachineModel
from chronarch.core.watching.bed_check import BedCheck
from chronarch.core.watching.build_watch import BuildWatch, CameraView, Seen
from chronarch.core.watching.judgement import Judge
from chronarch.core.watching.scoring import LABELS, ScoredFrame

LARGEST = 64 << 20
FRAME_S = 60.0


class UnreadableSet(Exception):
    """The folder is no labelled set; the text says which line of it, and what is wrong."""


class LabelledFrame(BaseModel):
    """One line of `frames.jsonl`."""

    model_config = ConfigDict(extra="ignore")
    image: Annotated[str, Field(min_length=1, max_length=500)]
    gcode: Annotated[str | None, Field(min_length=1, max_length=500)] = None
    taken: Annotated[int, Field(ge=0)]
    camera: Annotated[list[tuple[float, float]], Field(min_length=4, max_length=4)]
    label: str
    object: str | None = None
    sequence: Annotated[str, Field(min_length=1, max_length=200)]
    clear: Annotated[str, Field(min_length=1, max_length=500)]
    bed_mm: tuple[Annotated[float, Field(gt=0, le=5000)], Annotated[float, Field(gt=0, le=5000)]] = (220.0, 220.0)
    at_s: float | None = None
    head: tuple[float, float, float] | None = None
    clear_head: tuple[float, float, float] | None = None

    @model_validator(mode="after")
    def _can_be_watched(self) -> Self:
        if (self.head is None) != (self.clear_head is None):
            raise ValueError("head and clear_head come together")
        if self.gcode is None and self.head is None:
            raise ValueError("it names no gcode; only a bed before a start, with head and clear_head, does without")
        return self


def read_labels(folder: Path) -> dict[str, list[LabelledFrame]]:
    """The frames by sequence, in the order of the file. Raises UnreadableSet."""
    path = folder / "frames.jsonl"
    if not path.is_file():
        raise UnreadableSet(
            f"{folder} has no frames.jsonl; a labelled set is a folder with that file and its pictures."
        )
    found: dict[str, list[LabelledFrame]] = defaultdict(list)
    with path.open(encoding="utf-8", errors="replace") as lines:
        for n, line in enumerate(lines, 1):
            if not line.strip():
                continue
            try:
                frame = LabelledFrame.model_validate(json.loads(line))
            except ValidationError as error:
                first = error.errors()[0]
                where = ".".join(map(str, first["loc"])) or "the line"
                why = first["msg"].removeprefix("Value error, ")
                raise UnreadableSet(f"frames.jsonl, line {n}: {where}: {why}.") from None
            except ValueError as error:
                raise UnreadableSet(f"frames.jsonl, line {n} is no JSON object: {error}.") from None
            if frame.label not in LABELS:
                raise UnreadableSet(
                    f"frames.jsonl, line {n}: the label {frame.label!r} is none of {', '.join(LABELS)}."
                )
            found[frame.sequence].append(frame)
    if not found:
        raise UnreadableSet(f"{path} holds no frame.")
    return dict(found)


@dataclass(frozen=True)
class WatchedFrame:
    """One frame, what the watch made of it, and how long that took."""

    label: LabelledFrame
    seen: Seen
    names: dict[int, str]
    at_s: float
    ms: float


class SetWatcher:
    """Runs the watch over a labelled set; `judge` makes the judge of each sequence."""

    def __init__(self, folder: Path, judge: Callable[[], Judge]) -> None:
        self._folder, self._judge = folder, judge
        self._files: dict[str, tuple[Bytes, Analysis]] = {}
        self._model = MachineModel(name="as labelled")

    def watch(self, frames: list[LabelledFrame]) -> Iterator[WatchedFrame]:
        """The frames of one sequence in turn. Raises UnreadableSet."""
        look, names = self._begin(frames[0])
        for n, frame in enumerate(frames):
            at_s = n * FRAME_S if frame.at_s is None else frame.at_s
            jpeg = self._bytes(frame.image)
            begin = time.perf_counter()
            try:
                seen = look(jpeg, frame, at_s)
            except ValueError as error:
                raise UnreadableSet(f"{frame.image}: {error}.") from None
            yield WatchedFrame(frame, seen, names, at_s, 1000 * (time.perf_counter() - begin))

    def _begin(self, first: LabelledFrame) -> tuple[Callable[[bytes, LabelledFrame, float], Seen], dict[int, str]]:
        """How each frame of a sequence is looked at, and the names of the objects in it."""
        try:
            view = CameraView.of(self._bytes(first.clear), first.camera, first.bed_mm)
        except ValueError as error:
            raise UnreadableSet(f"The sequence {first.sequence}: {error}") from None
        if first.clear_head is not None:
            bed = BedCheck(view, first.clear_head, self._judge())

            def look(jpeg: bytes, frame: LabelledFrame, _: float) -> Seen:
                if frame.head is None:
                    raise UnreadableSet(f"The sequence {first.sequence}: {frame.image} has no head.")
                return bed.look(jpeg, frame.head)

            return look, {}
        data, analysis = self._file(first.gcode or "")
        watch = BuildWatch(view, data, analysis, self._model, self._judge())
        return lambda jpeg, frame, at_s: watch.look(jpeg, frame.taken, at_s), watch.names

    def _bytes(self, name: str) -> bytes:
        path = (self._folder / name).resolve()
        if not path.is_relative_to(self._folder.resolve()):
            raise UnreadableSet(f"{name} lies outside the folder.")
        try:
            if path.stat().st_size > LARGEST:
                raise UnreadableSet(f"{name} is larger than {LARGEST >> 20} MB.")
            return path.read_bytes()
        except OSError as error:
            raise UnreadableSet(f"{name} cannot be read: {error.strerror}.") from None

    def _file(self, name: str) -> tuple[Bytes, Analysis]:
        if name not in self._files:
            data = as_bytes(self._bytes(name))
            try:
                self._files[name] = data, analyse(data, self._model)
            except NotGcode as error:
                raise UnreadableSet(f"{name}: {error}") from None
        return self._files[name]


def scored(one: WatchedFrame) -> ScoredFrame:
    """A watched frame as it is summed up."""
    top = one.seen.suspicions[0] if one.seen.suspicions else None
    return ScoredFrame(
        one.label.sequence, one.at_s, one.label.label, top.mode if top else None, top.probability if top else 0.0,
        top.object if top else "", str(one.seen.unjudged or ""), one.ms,
    )  # fmt: skip


def as_row(one: WatchedFrame) -> dict[str, Any]:
    """A watched frame for programs."""
    scores = {f"{s.mode}:{s.object}".rstrip(":"): round(s.probability, 4) for s in one.seen.suspicions}
    return {
        "image": one.label.image, "sequence": one.label.sequence, "label": one.label.label, "at_s": one.at_s,
        "unjudged": str(one.seen.unjudged) if one.seen.unjudged else None,
        "scores": scores,
        "ms": round(one.ms, 2),
    }  # fmt: skip
