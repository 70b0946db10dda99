"""From what frames show to a suspicion: its kind, the object it is about, and a probability.

Each frame gives every kind of failure a logarithm of odds against a build that goes well (a multinomial logistic model
of the evidence, `learned.py`). They are added up over frames, each within limits, so that one odd frame is no failure
and three are; a frame that speaks for a good build takes away again. The sum becomes a probability by a calibration
that was fitted on labelled builds, and is moved by what people answered of each camera.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from chronarch.core.watching.evidence import FrameEvidence, ObjectEvidence
from chronarch.core.watching.suspicion import KINDS, OF_BUILD, OF_OBJECT, SENTENCES, FailureMode, Suspicion

Floats = np.ndarray[Any, np.dtype[np.float64]]


LEAST, MOST = -1.2, 1.6
"""What one frame takes away or adds at most."""
TOP = 9.0
WHOLE_AFTER_S = 20.0
"""A frame that comes sooner after the one before says less: it shows nearly the same."""
FORGET = 0.85
"""What is left of a vote for a kind after each whole frame."""
BUILD_VOTES = 1.15
LEAST_MM2 = 1.0
"""Less material than this where none should be is a crumb, or an edge that is not quite where it should be."""
SEEN_PX = 40
"""An object of which fewer pixels are known says nothing by what it lacks."""


@dataclass(frozen=True)
class Calibration:
    """How a sum of evidence becomes a probability: 1 / (1 + exp(-(slope * sum + offset)))."""

    slope: float
    offset: float

    def probability(self, total: float, moved: float = 0.0) -> float:
        return 1 / (1 + math.exp(-max(-30.0, min(30.0, self.slope * total + self.offset + moved))))


@dataclass(frozen=True)
class Learned:
    """What was fitted on labelled builds: `weights` (features x kinds, against a good build), and calibrations."""

    weights: Floats
    faint: Floats
    """The same for materials that have nearly the bed's colour."""
    prior: Floats
    """Added to what a frame says of each kind: how much rarer it is than in what was learned from."""
    of_build: Calibration
    of_faint: Calibration
    of_bed: Calibration
    left_mm2: tuple[float, float]
    """For a bed before a start: weight and offset of the logarithm of what lies there."""


FEATURES = (
    "one", "extra", "much", "reach", "extra_tall", "lost", "lost_high", "stunted", "blob", "others_extra",
    "others_stunted", "agree", "apart", "extra_fits", "extra_stunted", "rough",
)  # fmt: skip


def features(one: ObjectEvidence, found: FrameEvidence) -> Floats:
    """One object's evidence, with what the rest of the frame says, as numbers of about 1 (`FEATURES`)."""
    others = [o for o in found.objects if o.number != one.number]
    extra = _size(one)
    seen = 1.0 if one.px >= SEEN_PX else 0.3
    stunted = one.stunted * min(1.0, one.stunted_px / 60)
    fits = min(one.fits, 1.5)
    others_stunted = _mean(o.stunted * min(1.0, o.stunted_px / 60) for o in others)
    tall = extra * min(one.tall, 3.0)
    apart = math.log1p(math.hypot(*one.push_mm) / 10) if extra else 0.0
    reach = min(one.spread_mm / 20, 2.0) if extra else 0.0
    return np.array([
        1.0, extra, max(0.0, extra - 2.5), reach, tall, min(4 * one.lost, 2.0) * seen,
        min(4 * one.lost_high, 2.0) * seen, stunted, math.log1p(found.blob_mm2 / 20),
        _mean(map(_size, others)), others_stunted,
        _agreement(found.objects), apart, extra * fits, extra * stunted, min(one.rough, 3.0) if extra else 0.0,
    ])  # fmt: skip


def _size(one: ObjectEvidence) -> float:
    return math.log1p(one.extra_mm2 / 10) if one.extra_mm2 >= LEAST_MM2 else 0.0


def _mean(values: Iterable[float]) -> float:
    found = list(values)
    return sum(found) / len(found) if found else 0.0


def _agreement(objects: tuple[ObjectEvidence, ...]) -> float:
    """How far objects stand off in one direction, 0 to about 1: what a layer shift does, and nothing else."""
    off = [(min(o.extra_mm2, 200.0), *o.push_mm) for o in objects if o.extra_mm2 >= LEAST_MM2]
    if len(off) < 2:
        return 0.0
    weight = sum(f for f, _, _ in off)
    x, y = (sum(f * v[k] for f, *v in off) / weight for k in (0, 1))
    size = sum(f * math.hypot(a, b) for f, a, b in off) / weight
    seen = sum(o.px >= SEEN_PX for o in objects)
    return math.hypot(x, y) / max(size, 0.1) * min(1.0, len(off) / max(2, seen))


@dataclass
class _Case:
    """What is known against one object, or (number 0) a bed before a start: the `total` of the evidence, how much of it
    speaks for each kind, where, and since when it is more likely than not that something is wrong."""

    total: float = 0.0
    votes: Floats = field(default_factory=lambda: np.zeros(len(KINDS)))
    place: tuple[int, int, int, int] | None = None
    since_s: float | None = None


class Judge:
    """Adds up the evidence of one build. `moved` is what people's answers move each kind's odds by."""

    def __init__(self, learned: Learned, moved: Mapping[FailureMode, float] | None = None) -> None:
        self._learned, self._moved = learned, moved or {}
        self._cases: dict[int, _Case] = {}
        self._names: dict[int, str] = {0: ""}
        self._tip: tuple[int, int, int, int] | None = None
        self._at_s: float | None = None
        self._faint = False

    def total(self, number: int) -> float:
        """What the evidence against an object adds up to."""
        return self._cases[number].total if number in self._cases else 0.0

    def hear(self, found: FrameEvidence, names: Mapping[int, str], at_s: float) -> tuple[Suspicion, ...]:
        """Take in a frame's evidence, seen at a time (s, rising); `names` are the objects'. Returns what is suspected
        now."""
        gap_s = WHOLE_AFTER_S if self._at_s is None else max(0.0, at_s - self._at_s)
        self._at_s, self._tip = at_s, found.tip
        self._names.update(names)
        share = min(1.0, gap_s / WHOLE_AFTER_S)
        if not found.objects:
            weight, offset = self._learned.left_mm2
            self._add(0, weight * math.log1p(found.stray_mm2 / 20) + offset, share, found.tip)
            return self.now()
        self._cases.pop(0, None)
        self._faint = found.faint
        weights = self._learned.faint if found.faint else self._learned.weights
        for one in found.objects:
            odds = features(one, found) @ weights + self._learned.prior
            top = float(odds.max())
            rest = np.exp(odds - top)
            self._add(one.number, top + math.log(float(rest.sum()) / len(KINDS)), share, one.place)
            case = self._cases[one.number]
            case.votes = FORGET**share * case.votes + (share * rest / rest.sum() if top > 0 else 0.0)
        return self.now()

    def _add(self, number: int, odds: float, share: float, place: tuple[int, int, int, int] | None) -> None:
        case = self._cases.setdefault(number, _Case())
        case.total = max(0.0, min(TOP, case.total + share * max(LEAST, min(MOST, odds))))
        if place is not None or not case.total:
            case.place = place
        if not case.total or self._probability(number, self._kind(number)) < 0.5:
            case.since_s = None
        elif case.since_s is None:
            case.since_s = self._at_s

    def _probability(self, number: int, mode: FailureMode) -> float:
        whole = self._learned.of_faint if self._faint else self._learned.of_build
        calibration = self._learned.of_bed if number == 0 else whole
        return calibration.probability(self.total(number), self._moved.get(mode, 0.0))

    def _kind(self, number: int) -> FailureMode:
        """The likeliest kind. What befalls a whole build is told by all objects together."""
        if number == 0:
            return FailureMode.NOT_CLEAR
        votes = self._cases[number].votes.copy()
        seen = [c for n, c in self._cases.items() if n]
        for k, kind in enumerate(KINDS):
            if kind in OF_BUILD and len(seen) > 1:
                votes[k] = sum(c.votes[k] for c in seen) / len(seen) * BUILD_VOTES
        return KINDS[int(votes.argmax())]

    def now(self) -> tuple[Suspicion, ...]:
        """What is suspected, the most likely first; what befalls the whole build once."""
        found: dict[tuple[FailureMode, int], Suspicion] = {}
        for number, case in sorted(self._cases.items(), key=lambda item: -item[1].total):
            if case.total <= 0:
                continue
            kind = self._kind(number)
            about = number if kind in OF_OBJECT else 0
            name = self._names.get(about, "")
            place = self._tip or case.place if kind is FailureMode.BLOB else case.place
            found.setdefault(
                (kind, about),
                Suspicion(
                    kind, self._probability(number, kind), name, about, SENTENCES[kind].format(name=name or "The part"),
                    place, case.since_s,
                ),
            )  # fmt: skip
        return tuple(sorted(found.values(), key=lambda s: -s.probability))
