"""Labelled frames for the watch, drawn by the stand-ins' camera: builds that go well and builds that fail, with the
truth beside each frame. docs/watch.md describes the folder."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

import numpy as np

from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.gcode.kernel_layout import EXTRUDE
from chronarch.core.gcode.layers import layer_moves
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.machines.model import MachineModel
from chronarch.demo.shapes import Ellipse, Point, RoundedBox, Slice
from chronarch.demo.shop import MODELS, PARTS
from chronarch.demo.slicer import DemoPart, slice_part
from chronarch.standins.scene.drawing import BedView, Colour, Surroundings
from chronarch.standins.scene.exposure import Exposure, as_jpeg, expose
from chronarch.standins.scene.lens import Floats, Lens
from chronarch.standins.scene.matter import FAILURES, Failure, FailureKind, Matter

SetPart = Literal["tuning", "unseen"]
EVERY_S = 60.0
BEFORE, AFTER = (8, 16), 14
"""How many frames of good building come before a failure, and how many after it."""
WHOLE_H = 2.5
"""How long a sequence of good building is at most."""
CLICK_PX = 0.8
"""How exactly somebody clicks the corners."""


@dataclass(frozen=True)
class Variety:
    """What one part of the set is drawn with; nothing of it occurs in the other."""

    parts: tuple[DemoPart, ...]
    lenses: tuple[Lens, ...]
    beds: tuple[Surroundings, ...]
    filaments: tuple[Colour, ...]
    gains: tuple[tuple[float, float, float], ...]
    noise: tuple[float, float]
    quality: tuple[int, int]
    seed: int


def _ring(x: float, y: float, n: int, reach: float) -> tuple[Point, ...]:
    return tuple(
        (x + reach * math.cos(2 * math.pi * k / n), y + reach * math.sin(2 * math.pi * k / n)) for k in range(n)
    )


_TUNING_PARTS = tuple(
    replace(part, height_mm=high)
    for part, high in zip(
        (PARTS[0], PARTS[1], PARTS[3], PARTS[5], PARTS[6]), (12.0, 36.0, 18.0, 22.0, 18.0), strict=True
    )
)
_UNSEEN_PARTS = (
    DemoPart(
        "lamp-foot", 16, lambda z: Slice(RoundedBox(40 - 0.5 * z, 40 - 0.5 * z, 9)), ((60, 70), (155, 75), (110, 150))
    ),
    DemoPart("hook", 20, lambda z: Slice(RoundedBox(34, 12, 5), [((9, 0), Ellipse(3, 3))]), _ring(110, 110, 5, 62)),
    DemoPart(
        "cable-drum",
        30,
        lambda z: Slice(Ellipse(24, 24) if z < 2 or z > 27 else Ellipse(14, 14), [((0, 0), Ellipse(6, 6))]),
        ((75, 115), (150, 100)),
    ),
    DemoPart("tall-post", 60, lambda z: Slice(RoundedBox(18, 18, 3)), ((70, 60), (150, 70), (110, 150)), sparse=5),
    DemoPart(
        "tray",
        10,
        lambda z: Slice(RoundedBox(110, 60, 6), [] if z < 1.5 else [((0, 0), RoundedBox(104, 54, 4))]),
        ((108, 118),),
        sparse=4,
    ),
)

VARIETY: dict[SetPart, Variety] = {
    "tuning": Variety(
        parts=(*_TUNING_PARTS, DemoPart("spindle", 55, lambda z: Slice(Ellipse(10, 10)), ((80, 80), (145, 140)))),
        lenses=(
            Lens((110, -250, 230), (110, 105, 5), 0.78, -0.06),
            Lens((-60, -190, 210), (112, 110, 0), 0.72, -0.1),
            Lens((300, -120, 160), (108, 108, 8), 0.80, -0.03),
        ),
        beds=(
            Surroundings(bed=(74, 77, 82), marks="grid"),
            Surroundings(
                bed=(150, 120, 60), marks="speckle", wall=(70, 66, 62), head=(70, 74, 80), light_from=(0.5, -0.4, 1)
            ),
            Surroundings(
                bed=(38, 40, 44), marks="plain", wall=(120, 122, 120), head=(60, 60, 62), head_mm=(54, 50, 60)
            ),
        ),
        filaments=((32, 150, 146), (204, 146, 48), (224, 222, 214), (40, 40, 42)),
        gains=((1.0, 1.0, 1.0), (0.62, 0.6, 0.56), (1.25, 1.2, 1.1)),
        noise=(1.5, 4.0),
        quality=(70, 92),
        seed=11,
    ),
    "unseen": Variety(
        parts=_UNSEEN_PARTS,
        lenses=(
            Lens((95, -300, 190), (112, 95, 10), 0.86, -0.08),
            Lens((270, -210, 250), (105, 112, 0), 0.74, -0.05),
            Lens((-110, -80, 180), (118, 112, 5), 0.70, -0.12),
        ),
        beds=(
            Surroundings(bed=(96, 92, 88), marks="speckle", wall=(40, 42, 50), head=(54, 54, 60), seed=5),
            Surroundings(
                bed=(60, 72, 92),
                marks="grid",
                wall=(90, 92, 96),
                head=(80, 60, 50),
                head_mm=(40, 44, 46),
                light_from=(0.6, 0.2, 1),
                seed=6,
            ),
            Surroundings(
                bed=(168, 166, 160),
                marks="plain",
                wall=(60, 56, 54),
                head=(40, 42, 44),
                light_from=(-0.3, -0.6, 1),
                seed=7,
            ),
        ),
        filaments=((190, 62, 54), (64, 104, 178), (84, 146, 76), (236, 196, 60)),
        gains=((0.85, 0.85, 0.9), (0.5, 0.47, 0.4), (1.1, 1.1, 1.15)),
        noise=(2.0, 5.0),
        quality=(62, 88),
        seed=23,
    ),
}


def part_named(name: str) -> DemoPart:
    """A part of either part of the set."""
    return next(part for variety in VARIETY.values() for part in variety.parts if part.name == name)


class SlicedPart:
    """A part's G-code and all its moves in order, as arrays."""

    def __init__(self, part: DemoPart, model: MachineModel) -> None:
        self.name, self.model, self.things = part.name, model, len(part.spots)
        self.spots, self.height_mm = part.spots, part.height_mm
        self.text = "".join(f"{line}\n" for line in slice_part(part)).encode()
        self.analysis: Analysis = analyse(self.text, model)
        data, a = as_bytes(self.text), self.analysis
        found = [layer_moves(data, a.index, k, model) for k in range(a.index.layers + 1)]
        moves = np.concatenate([one.moves for one in found])
        ends = np.stack([moves[c] for c in ("x", "y", "z")], 1).astype(np.float64)
        self.starts = np.concatenate([ends[:1], ends[:-1]])
        self.ends = ends
        self.command = moves["command"].astype(np.int64)
        self.laid = moves["kind"] == EXTRUDE
        self.filament = moves["filament"].astype(np.float64)
        self.thing = a.spans.of_lines(moves["line"].astype(np.int64))
        self.layer = np.repeat(np.arange(len(found)), [len(one.moves) for one in found])
        marks = np.array([(m.planned_s, m.command) for m in a.plan.marks], np.float64)
        self._seconds, self._commands = marks[:, 0], marks[:, 1]
        self.begin_s = float(np.interp(a.plan.layers[0] if a.plan.layers else 0, self._commands, self._seconds))
        self.total_s = a.plan.total_s

    def commands_at(self, planned_s: float) -> int:
        return int(np.interp(planned_s, self._seconds, self._commands))

    def pieces(self, first: int, last: int) -> Iterator[tuple[int, Floats, float]]:
        """What commands `first` (not itself) to `last` lay: thing, lines, filament; layer by layer, thing by thing."""
        at = slice(*np.searchsorted(self.command, (first, last), "right"))
        laid = np.flatnonzero(self.laid[at]) + at.start
        if not len(laid):
            return
        key = self.layer[laid] * 1000 + self.thing[laid]
        for piece in np.split(laid, np.flatnonzero(np.diff(key)) + 1):
            lines = np.concatenate([self.starts[piece], self.ends[piece]], 1)
            yield int(self.thing[piece[0]]), lines, float(self.filament[piece].sum())

    def head_at(self, command: int) -> tuple[float, float, float]:
        k = min(len(self.ends) - 1, int(np.searchsorted(self.command, command, "right")))
        x, y, z = self.ends[k].tolist()
        return x, y, z


@dataclass
class Labels:
    """One line of `frames.jsonl`."""

    image: str
    gcode: str
    taken: int
    camera: list[tuple[float, float]]
    label: str
    object: str | None
    sequence: str
    clear: str
    bed_mm: tuple[float, float]
    at_s: float


@dataclass
class _Day:
    """The light of one sequence."""

    lot: np.random.Generator
    gain: np.ndarray
    slope: tuple[float, float]
    band: float
    noise: float
    blur: float
    quality: int
    drift: float
    events: dict[int, str] = field(default_factory=dict)
    """What happens at which frame: `lamp` changes for good, `hand`, `dark`, `blurred`, `covered` for some frames;
    from `knocked` on nothing can be judged."""
    lamp: float = 1.0
    moved: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def exposure(self, n: int) -> tuple[Exposure, str]:
        """The exposure of frame n, and what keeps it from being judged, if anything does."""
        lot, event = self.lot, self.events.get(n, "")
        if event == "lamp":
            self.lamp *= float(lot.choice([0.55, 0.7, 1.35, 1.6]))
        gain = self.gain * self.lamp * (1 + self.drift * math.sin(n / 24)) * lot.normal(1, 0.015)
        gain = np.minimum(gain, 1.5)
        hand = (float(lot.uniform(0.3, 0.7)), float(lot.uniform(0.45, 0.75))) if event == "hand" else None
        blur = self.blur + (float(lot.uniform(5, 9)) if event == "blurred" else 0.0)
        if event == "dark":
            gain = gain * 0.02
        covered = float(lot.uniform(0.75, 1.1)) if event == "covered" else 0.0
        if event == "knocked":
            self.moved = (float(lot.uniform(12, 60)), float(lot.uniform(-40, 40)), float(lot.uniform(-3, 3)))
        if any(self.moved):
            event = "knocked"
        how = Exposure(
            (float(gain[0]), float(gain[1]), float(gain[2])),
            self.slope,
            self.band,
            float(lot.uniform(0, 6)),
            self.noise,
            blur,
            self.quality,
            hand,
            covered,
            self.moved,
            int(lot.integers(1 << 30)),
        )
        return how, event if event != "lamp" else ""


class SetMaker:
    """Writes one labelled set into a folder."""

    def __init__(self, folder: Path, part: SetPart, every_s: float = EVERY_S, seed: int = 0) -> None:
        self.folder, self.variety, self.every_s = folder, VARIETY[part], every_s
        self.lot = np.random.default_rng(self.variety.seed + 1000 * seed)
        self.model = MODELS[0]
        self._sliced: dict[str, SlicedPart] = {}
        for name in ("frames", "clear", "gcode"):
            (folder / name).mkdir(parents=True, exist_ok=True)
        self._out = (folder / "frames.jsonl").open("w", encoding="utf-8")
        self.frames = 0

    def close(self) -> None:
        self._out.close()

    def good(self, name: str, hours: float = WHOLE_H) -> float:
        """A build that goes well. Returns its hours."""
        sliced = self._pick()
        begin = sliced.begin_s * 0.3
        span = min(hours * 3600, sliced.total_s - begin)
        begin += float(self.lot.uniform(0, max(0.0, sliced.total_s - begin - span)))
        n = int(span / self.every_s)
        self._sequence(name, sliced, begin, n, None, n + 1)
        return n * self.every_s / 3600

    def failing(self, name: str, kind: FailureKind) -> None:
        """A build that goes wrong at some time."""
        sliced = self._pick(tall=kind == "fallen")
        before = int(self.lot.integers(*BEFORE))
        span = (before + AFTER) * self.every_s
        first = sliced.begin_s + max(0.12 if kind != "fallen" else 0.5, 0.12) * (sliced.total_s - sliced.begin_s)
        least = max(sliced.begin_s, first - before * self.every_s)
        begin = float(self.lot.uniform(least, max(least + 1, sliced.total_s - span)))
        thing = int(self.lot.integers(sliced.things))
        angle, far = float(self.lot.uniform(0, 2 * math.pi)), 1.0
        match kind:
            case "loose":
                far = float(self.lot.uniform(8, 45))
            case "shifted":
                far = float(self.lot.choice([self.lot.uniform(2, 4), self.lot.uniform(4, 15)]))
                angle = float(self.lot.choice([0, 0.5, 1, 1.5])) * math.pi
        failure = Failure(
            kind,
            thing if kind in ("loose", "fallen", "tangle") else -1,
            (far * math.cos(angle), far * math.sin(angle)),
            float(self.lot.uniform(-1.2, 1.2)),
            float(self.lot.uniform(60, 900)),
            int(self.lot.integers(1 << 30)),
        )
        self._sequence(name, sliced, begin, before + AFTER, failure, before)

    def before_start(self, name: str, *, clear: bool) -> None:
        """Some frames of a bed before a build; something lies on it, or nothing."""
        self._sequence(name, self._pick(), 0.0, 5, None, 0, left="" if clear else self._something())

    def _something(self) -> str:
        return str(self.lot.choice(["part", "part", "tool", "string"]))

    def _pick(self, *, tall: bool = False) -> SlicedPart:
        fits = [part for part in self.variety.parts if part.height_mm > 25 or not tall]
        part = fits[int(self.lot.integers(len(fits)))]
        if part.name not in self._sliced:
            self._sliced[part.name] = sliced = SlicedPart(part, self.model)
            (self.folder / "gcode" / f"{part.name}.gcode").write_bytes(sliced.text)
        return self._sliced[part.name]

    def _day(self, count: int, *, quiet: bool) -> _Day:
        v, lot = self.variety, self.lot
        day = _Day(
            lot,
            np.array(v.gains[int(lot.integers(len(v.gains)))]) * lot.uniform(0.9, 1.1, 3),
            (float(lot.uniform(-0.15, 0.15)), float(lot.uniform(-0.15, 0.15))),
            float(lot.choice([0.0, 0.0, 0.03, 0.06])),
            float(lot.uniform(*v.noise)),
            float(lot.uniform(0.3, 1.2)),
            int(lot.integers(*v.quality)),
            float(lot.choice([0.0, 0.15, 0.3])),
        )
        for n in range(2, count):
            if not quiet and lot.random() < 0.012:
                day.events[n] = "lamp"
            elif lot.random() < 0.006:
                event = str(lot.choice(["hand", "dark", "blurred", "covered", "hand"]))
                day.events.update({k: event for k in range(n, n + int(lot.integers(1, 4)))})
        if not quiet and count > 40 and lot.random() < 0.1:
            day.events[count - 6] = "knocked"
        return day

    def _sequence(
        self,
        name: str,
        sliced: SlicedPart,
        begin_s: float,
        count: int,
        failure: Failure | None,
        fails_at: int,
        left: str = "",
    ) -> None:
        v, lot = self.variety, self.lot
        lens = v.lenses[int(lot.integers(len(v.lenses)))]
        look = v.beds[int(lot.integers(len(v.beds)))]
        filament = v.filaments[int(lot.integers(len(v.filaments)))] if lot.random() > 0.1 else look.bed
        matter = Matter()
        scene = BedView(lens, look, filament, matter)
        day = self._day(count, quiet=begin_s == 0.0)
        clear = f"clear/{name}.jpg"
        how, _ = day.exposure(-1)
        self._save(clear, expose(scene.picture((5.0, 210.0, 60.0)), how), how.quality)
        corners = [
            (u + float(lot.normal(0, CLICK_PX)), v + float(lot.normal(0, CLICK_PX)))
            for u, v in lens.corners(look.bed_mm)
        ]
        thing_name = sliced.analysis.objects[failure.thing].name if failure is not None and failure.thing >= 0 else None
        if left:
            self._leave(scene, left)
        taken = 0
        for n in range(count):
            now = sliced.commands_at(begin_s + n * self.every_s) if not left and begin_s > 0 else 0
            if n == fails_at and failure is not None:
                matter.fail(failure)
            for thing, lines, filament_mm in sliced.pieces(taken, now):
                long_s = float(np.linalg.norm(lines[:, 3:] - lines[:, :3], axis=1).sum()) / 45
                for fresh, wide in zip(matter.lay(lines, thing, long_s, filament_mm), (0.62, 0.5), strict=True):
                    if matter.version == scene.version:
                        scene.draw(fresh, wide)
            taken = now
            head = sliced.head_at(max(0, now - int(lot.integers(0, 12)))) if now else (5.0, 210.0, 60.0)
            if failure is not None and n >= fails_at and failure.kind == "shifted":
                head = (head[0] + failure.drift_mm[0], head[1] + failure.drift_mm[1], head[2])
            how, blocked = day.exposure(n)
            image = f"frames/{name}-{n:03d}.jpg"
            self._save(image, expose(scene.picture(head), how), how.quality)
            label = failure.kind if failure is not None and n >= fails_at else "not-clear" if left else "fine"
            self._write(
                Labels(
                    image,
                    f"gcode/{sliced.name}.gcode",
                    now,
                    [(round(a, 2), round(b, 2)) for a, b in corners],
                    "cannot-judge" if blocked else label,
                    thing_name if label not in ("fine", "not-clear") else None,
                    name,
                    clear,
                    look.bed_mm,
                    round(n * self.every_s, 1),
                )
            )

    def _leave(self, scene: BedView, what: str) -> None:
        """Something lies on a bed that should be clear."""
        lot, lines = self.lot, np.zeros((0, 6))
        x, y = lot.uniform(50, 170, 2).tolist()
        if what == "tool":
            a, long = float(lot.uniform(0, 3)), float(lot.uniform(40, 90))
            way, side = np.array([math.cos(a), math.sin(a), 0]) * long, np.array([-math.sin(a), math.cos(a), 0]) * 7
            at = np.array([x, y, 3.0])
            scene.add_thing(
                np.stack([at - way / 2 - side, at + way / 2 - side, at + way / 2 + side, at - way / 2 + side]),
                (150, 152, 158),
            )
        elif what == "string":
            lines = scene.matter.curls(float(lot.uniform(150, 500)), np.array([x, y, 2.0]), np.array([14.0, 14.0, 2.0]))
            scene.draw(lines, 0.5)
        else:
            other = self._pick()
            share = float(lot.uniform(0.3, 1.0))
            until = other.commands_at(other.begin_s + share * (other.total_s - other.begin_s))
            keep = int(lot.integers(other.things))
            for thing, lines, _ in other.pieces(0, until):
                if thing == keep:
                    scene.draw(scene.matter.grow(lines, thing))

    def _save(self, name: str, image: np.ndarray, quality: int) -> None:
        (self.folder / name).write_bytes(as_jpeg(image, quality))
        self.frames += 1

    def _write(self, labels: Labels) -> None:
        self._out.write(json.dumps(vars(labels)) + "\n")


def make_set(folder: Path, part: SetPart, each: int, good_h: float, seed: int = 0) -> int:
    """Write a set: `each` sequences of every failure and of beds before a start, and so many hours of good building.
    Returns how many pictures were written."""
    maker = SetMaker(folder, part, seed=seed)
    for kind in FAILURES:
        for n in range(each):
            maker.failing(f"{kind}-{n:03d}", kind)
    for n in range(each):
        maker.before_start(f"left-{n:03d}", clear=False)
        maker.before_start(f"start-{n:03d}", clear=True)
    hours, n = 0.0, 0
    while hours < good_h:
        hours += maker.good(f"good-{n:03d}")
        n += 1
    maker.close()
    return maker.frames
