"""Fit the watch's weights on the tuning part of the labelled frames, and write them into the product.

    python -m bench.watch_tuning [--set FOLDER ...]

Without folders the part is drawn anew, twice with other seeds, and all takes about an hour. A multinomial logistic
model of the evidence of each object and frame is fitted by Newton's method with a ridge, apart for materials that are
faint on their bed; then the sums of evidence over frames are calibrated. The watch is run twice, because what it
suspects decides what it takes into its memory.
"""

from __future__ import annotations

import argparse
import tempfile
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from chronarch.cli.watching.labelled_folder import LabelledFrame, SetWatcher, read_labels
from chronarch.core.watching import judgement as j
from chronarch.core.watching.evidence import FrameEvidence
from chronarch.core.watching.suspicion import KINDS, FailureMode
from chronarch.demo.labelled_sets import make_set

OUT = Path(j.__file__).with_name("learned.py")
EACH, GOOD_H = 20, {0: 40.0, 2: 200.0}
"""Sequences of each kind of failure, and hours of good building by seed."""
PRIOR = (-1.0, -1.0, -1.0, -1.0, -2.0, -2.0)
"""By kind. What does not grow shows slowly, and what hides it shows often."""
RIDGE, STEPS = 2.0, 4000
Floats = np.ndarray[Any, np.dtype[np.float64]]
_NEVER = j.Calibration(0.0, -20.0)
_NONE = np.zeros((len(j.FEATURES), len(KINDS)))
NOTHING = j.Learned(_NONE, _NONE, np.zeros(len(KINDS)), _NEVER, _NEVER, _NEVER, (0.0, 0.0))


@dataclass(frozen=True)
class Example:
    """What one frame said, and what was true: the kind (None: good building) and the object."""

    evidence: FrameEvidence
    names: dict[int, str]
    kind: FailureMode | None
    object: str | None
    at_s: float


def sequence_of(folder: Path, frames: list[LabelledFrame], learned: j.Learned) -> list[Example]:
    """Run the watch over one sequence."""
    watcher = SetWatcher(folder, lambda: j.Judge(learned))
    found = []
    for one in watcher.watch(frames):
        label = one.label.label
        if one.seen.evidence is None or one.seen.unjudged or label == "cannot-judge":
            continue
        kind = None if label == "fine" else FailureMode(label)
        found.append(Example(one.seen.evidence, one.names, kind, one.label.object, one.at_s))
    return found


def run(folder: Path, learned: j.Learned) -> list[list[Example]]:
    """Run the watch over all sequences, on all processors."""
    sequences = list(read_labels(folder).values())
    with ProcessPoolExecutor() as pool:
        return list(
            pool.map(sequence_of, [folder] * len(sequences), sequences, [learned] * len(sequences), chunksize=4)
        )


def rows(examples: Iterator[Example], *, faint: bool) -> tuple[Floats, Floats]:
    """Features (n x f) and classes (n; 0 good, then `KINDS`) of every object and frame that says something of it."""
    x, y = [], []
    for one in examples:
        if one.kind is FailureMode.NOT_CLEAR or one.evidence.faint != faint:
            continue
        for seen in one.evidence.objects:
            mine = one.object is None or one.names.get(seen.number) == one.object
            if one.kind is not None and not mine:
                continue
            x.append(j.features(seen, one.evidence))
            y.append(0 if one.kind is None else 1 + KINDS.index(one.kind))
    return np.array(x), np.array(y)


def fit(x: Floats, y: Floats) -> Floats:
    """The weights (f x kinds) of a multinomial logistic model in which every class counts the same; steps are bounded
    as by Böhning (1992), so that none goes too far."""
    classes = len(KINDS) + 1
    share = np.array([1 / max(1, (y == k).sum()) for k in range(classes)])[y] * len(y) / classes
    target = np.eye(classes)[y]
    weights = np.zeros((x.shape[1], classes))
    bend = 0.5 * (x * share[:, None]).T @ x + RIDGE * np.eye(x.shape[1])
    for _ in range(STEPS):
        odds = x @ weights
        p = np.exp(odds - odds.max(1, keepdims=True))
        p /= p.sum(1, keepdims=True)
        weights += np.linalg.solve(bend, x.T @ (share[:, None] * (target - p)) - RIDGE * weights)
    return weights[:, 1:] - weights[:, :1]


def line(x: Floats, y: Floats, ridge: float) -> tuple[float, float]:
    """Slope and offset of a logistic line."""
    a = np.stack([x, np.ones_like(x)], 1)
    w = np.zeros(2)
    for _ in range(60):
        p = 1 / (1 + np.exp(-np.clip(a @ w, -30, 30)))
        bend = (a * (p * (1 - p))[:, None]).T @ a + ridge * np.eye(2)
        w += np.clip(np.linalg.solve(bend, a.T @ (y - p) - ridge * w), -2, 2)
    return float(w[0]), float(w[1])


def calibrate(sequences: list[list[Example]], learned: j.Learned) -> list[j.Calibration]:
    """The calibrations of the totals, of builds, of faint ones and of beds: on every frame, of the likeliest
    suspicion."""
    pairs: dict[str, list[tuple[float, float]]] = {"build": [], "faint": [], "bed": []}
    for sequence in sequences:
        judge = j.Judge(learned)
        for one in sequence:
            judge.hear(one.evidence, one.names, one.at_s)
            bed = not one.evidence.objects
            total = max((judge.total(n) for n in ([0] if bed else one.names)), default=0.0)
            what = "bed" if bed else "faint" if one.evidence.faint else "build"
            pairs[what].append((total, float(one.kind is not None)))
    found = []
    for these in pairs.values():
        totals = np.array(these or [(0.0, 0.0), (9.0, 1.0)])
        slope, offset = line(totals[:, 0], totals[:, 1], 0.2)
        found.append(j.Calibration(round(max(slope, 0.2), 4), round(offset, 4)))
    return found


def learn(sequences: list[list[Example]]) -> j.Learned:
    plain, faint = (fit(*rows((one for s in sequences for one in s), faint=faint)) for faint in (False, True))
    beds = [one for s in sequences for one in s if not one.evidence.objects]
    at = np.array([np.log1p(one.evidence.stray_mm2 / 20) for one in beds])
    truth = np.array([float(one.kind is FailureMode.NOT_CLEAR) for one in beds])
    flat = j.Calibration(1.0, 0.0)
    learned = j.Learned(plain, faint, np.array(PRIOR), flat, flat, flat, line(at, truth, 0.05))
    of_build, of_faint, of_bed = calibrate(sequences, learned)
    return replace(learned, of_build=of_build, of_faint=of_faint, of_bed=of_bed)


def write(learned: j.Learned) -> None:
    """Write the module of what was learned."""
    plain, faint = (
        "\n".join(
            f"        ({', '.join(f'{v:.4f}' for v in row)}),  # {name}"
            for name, row in zip(j.FEATURES, weights, strict=True)
        )
        for weights in (learned.weights, learned.faint)
    )
    (a, b), build, bed, dim = learned.left_mm2, learned.of_build, learned.of_bed, learned.of_faint
    OUT.write_text(f'''"""What the watch has learned of labelled builds; written by `python -m bench.watch_tuning`.

One row a feature, one column a kind: {", ".join(KINDS)}.
"""

from __future__ import annotations

import numpy as np

from chronarch.core.watching.judgement import Calibration, Learned

LEARNED = Learned(
    weights=np.array([
{plain}
    ]),
    faint=np.array([
{faint}
    ]),
    prior=np.array({PRIOR}),
    of_build=Calibration({build.slope}, {build.offset}),
    of_faint=Calibration({dim.slope}, {dim.offset}),
    of_bed=Calibration({bed.slope}, {bed.offset}),
    left_mm2=({a:.4f}, {b:.4f}),
)  # fmt: skip
''')


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--set", type=Path, action="append", default=[])
    folders: list[Path] = options.parse_args().set
    with tempfile.TemporaryDirectory() as scratch:
        if not folders:
            for seed, hours in GOOD_H.items():
                folders.append(Path(scratch) / str(seed))
                make_set(folders[-1], "tuning", EACH, hours, seed)
        learned = NOTHING
        for _ in range(2):
            learned = learn([sequence for folder in folders for sequence in run(folder, learned)])
    write(learned)
    print(f"written: {OUT}")


if __name__ == "__main__":
    main()
