"""How well the watch does on labelled frames: what it catches and how soon, what it raises for nothing, and whether its
probabilities are what they say."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from chronarch.core.watching.carefulness import CatchRate
from chronarch.core.watching.suspicion import FailureMode

FINE, CANNOT_JUDGE = "fine", "cannot-judge"
LABELS = (FINE, *(str(f) for f in FailureMode), CANNOT_JUDGE)
AGAIN_S = 1800.0
"""A suspicion that comes back within this time of the last is the same alarm."""
WITHIN_S = 600.0
DEFAULT = 0.8
"""The probability from which an alarm is raised unless the shop sets something else."""
BINS = 10


@dataclass(frozen=True)
class ScoredFrame:
    """One frame of a labelled set with what the watch said of it: the likeliest kind and its probability (None and 0
    where nothing is suspected), and why it was not judged, if it was not. Times in s within the sequence."""

    sequence: str
    at_s: float
    label: str
    mode: FailureMode | None
    probability: float
    object: str = ""
    unjudged: str = ""
    ms: float = 0.0


@dataclass(frozen=True)
class LabelScore:
    """How one kind of failure was met, at one setting. `recall` is the share of its sequences with an alarm after the
    failure, `in_time` within ten minutes; `named` the share of those alarms that named this kind, `precision` the share
    of alarms that named this kind and were right; `delay_s` the median from failure to alarm. None where there is
    nothing to tell."""

    label: str
    sequences: int
    recall: float | None
    in_time: float | None
    named: float | None
    precision: float | None
    delay_s: float | None


@dataclass(frozen=True)
class ThresholdScore:
    """What follows from raising alarms from a probability on. `accepted_per_h` is the rate of false alarms that was
    asked for, None for the default; `false_per_h` what it came to in the good building of the set."""

    accepted_per_h: float | None
    threshold: float
    false_alarms: int
    false_per_h: float | None
    labels: tuple[LabelScore, ...]


@dataclass(frozen=True)
class SetScore:
    """A whole set: hours of good building, judged frames, the settings asked for; `calibration_error` is the expected
    difference between probability and share that was right; `confusion` counts sequences by their label and by what was
    raised first at the default setting ("nothing" for none)."""

    sequences: int
    frames: int
    judged: int
    rightly_unjudged: int
    wrongly_unjudged: int
    good_h: float
    calibration_error: float
    settings: tuple[ThresholdScore, ...]
    confusion: dict[str, dict[str, int]]
    ms_per_frame: float


@dataclass
class _Sequence:
    frames: list[ScoredFrame] = field(default_factory=list)

    @property
    def label(self) -> str:
        return next((f.label for f in self.frames if f.label not in (FINE, CANNOT_JUDGE)), FINE)

    def fails_at_s(self) -> float:
        return (
            next((f.at_s for f in self.frames if f.label == self.label), math.inf) if self.label != FINE else math.inf
        )

    def alarms(self, threshold: float) -> list[ScoredFrame]:
        found: list[ScoredFrame] = []
        last = -math.inf
        for frame in self.frames:
            if frame.mode is not None and frame.probability >= threshold and not frame.unjudged:
                if frame.at_s - last > AGAIN_S:
                    found.append(frame)
                last = frame.at_s
        return found

    def good_s(self) -> float:
        """Time of good building that was watched."""
        until = self.fails_at_s()
        times = [f.at_s for f in self.frames if f.at_s < until]
        return (times[-1] - times[0]) if len(times) > 1 else 0.0


def score(frames: Iterable[ScoredFrame], accepted_per_h: Sequence[float]) -> SetScore:
    """Sum up a set. `accepted_per_h` are rates of false alarms that somebody would put up with."""
    sequences: dict[str, _Sequence] = defaultdict(_Sequence)
    for frame in frames:
        sequences[frame.sequence].frames.append(frame)
    every = [f for s in sequences.values() for f in s.frames]
    good_h = sum(s.good_s() for s in sequences.values()) / 3600
    settings = [_setting(sequences, None, DEFAULT, good_h)]
    settings += [_setting(sequences, rate, _threshold(sequences, rate, good_h), good_h) for rate in accepted_per_h]
    blocked = [f for f in every if f.label == CANNOT_JUDGE]
    return SetScore(
        len(sequences), len(every), sum(not f.unjudged for f in every), sum(bool(f.unjudged) for f in blocked),
        sum(bool(f.unjudged) for f in every if f.label != CANNOT_JUDGE), good_h, _calibration_error(every),
        tuple(settings), _confusion(sequences), sum(f.ms for f in every) / max(1, len(every)),
    )  # fmt: skip


def curve(frames: Iterable[ScoredFrame], thresholds: Sequence[float]) -> tuple[CatchRate, ...]:
    """What follows of raising suspicions from each of some rising probabilities on, of all kinds together."""
    sequences: dict[str, _Sequence] = defaultdict(_Sequence)
    for frame in frames:
        sequences[frame.sequence].frames.append(frame)
    good_h = sum(s.good_s() for s in sequences.values()) / 3600
    failing = {name: s for name, s in sequences.items() if s.label != FINE}
    found: list[CatchRate] = []
    for threshold in thresholds:
        alarms = [(_first(s, threshold), s.fails_at_s()) for s in failing.values()]
        delays = sorted(alarm.at_s - fails for alarm, fails in alarms if alarm is not None)
        caught, in_time = (n / max(1, len(failing)) for n in (len(delays), sum(d <= WITHIN_S for d in delays)))
        if found:  # what is raised from a lower probability on would have been caught there too
            caught, in_time = min(caught, found[-1].caught), min(in_time, found[-1].in_time)
        usual = delays[len(delays) // 2] if delays else 0.0
        found.append(CatchRate(threshold, _false(sequences, threshold) / max(good_h, 1e-9), caught, in_time, usual))
    return tuple(found)


def _false(sequences: dict[str, _Sequence], threshold: float) -> int:
    return sum(alarm.at_s < s.fails_at_s() for s in sequences.values() for alarm in s.alarms(threshold))


def _threshold(sequences: dict[str, _Sequence], rate: float, good_h: float) -> float:
    """The lowest probability at which false alarms are no more than that."""
    tried = (*(t / 100 for t in range(5, 100)), *(0.99 + t / 1000 for t in range(1, 10)))
    return next((t for t in tried if _false(sequences, t) <= rate * good_h), 1.0)


def _setting(sequences: dict[str, _Sequence], rate: float | None, threshold: float, good_h: float) -> ThresholdScore:
    wrong = _false(sequences, threshold)
    first = {name: _first(s, threshold) for name, s in sequences.items()}
    named: dict[str, list[bool]] = defaultdict(list)
    for s in sequences.values():
        for alarm in s.alarms(threshold):
            named[str(alarm.mode)].append(alarm.at_s >= s.fails_at_s() and str(alarm.mode) == s.label)
    labels = []
    for label in map(str, FailureMode):
        mine = {name: s for name, s in sequences.items() if s.label == label}
        caught = [(first[name], s) for name, s in mine.items() if first[name] is not None]
        delays = sorted(alarm.at_s - s.fails_at_s() for alarm, s in caught if alarm is not None)
        labels.append(
            LabelScore(
                label, len(mine), _share(len(caught), len(mine)), _share(sum(d <= WITHIN_S for d in delays), len(mine)),
                _share(sum(str(a.mode) == label for a, _ in caught if a is not None), len(caught)),
                _share(sum(named[label]), len(named[label])), delays[len(delays) // 2] if delays else None,
            )
        )  # fmt: skip
    return ThresholdScore(rate, threshold, wrong, wrong / good_h if good_h else None, tuple(labels))


def _first(sequence: _Sequence, threshold: float) -> ScoredFrame | None:
    """The first alarm that is raised after the failure; one that stood before it has caught nothing."""
    fails = sequence.fails_at_s()
    return next((alarm for alarm in sequence.alarms(threshold) if alarm.at_s >= fails), None)


def _share(part: int, whole: int) -> float | None:
    return part / whole if whole else None


def _calibration_error(frames: Sequence[ScoredFrame]) -> float:
    """The expected calibration error over ten bins of probability, of judged frames on which something is suspected."""
    bins: dict[int, list[tuple[float, bool]]] = defaultdict(list)
    for f in frames:
        if f.mode is not None and not f.unjudged and f.label != CANNOT_JUDGE:
            bins[min(BINS - 1, int(f.probability * BINS))].append((f.probability, f.label != FINE))
    count = sum(map(len, bins.values()))
    off = (abs(sum(p for p, _ in b) - sum(right for _, right in b)) for b in bins.values())
    return sum(off) / count if count else 0.0


def _confusion(sequences: dict[str, _Sequence]) -> dict[str, dict[str, int]]:
    found: dict[str, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    for s in sequences.values():
        alarm = _first(s, DEFAULT) if s.label != FINE else next(iter(s.alarms(DEFAULT)), None)
        found[s.label][str(alarm.mode) if alarm else "nothing"] += 1
    return {label: dict(row) for label, row in found.items()}
