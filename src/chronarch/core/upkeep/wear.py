"""How long wear parts last: a Weibull distribution fitted to those that were replaced, and to those still in use."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import exp, log, sqrt
from typing import Any

import numpy as np

from chronarch.core.ledger.shares import SURE_95

FEWEST = 3
"""So many parts must have worn out before anything is said."""
SHAPES = (0.1, 500.0)
Floats = np.ndarray[Any, np.dtype[np.float64]]


@dataclass(frozen=True)
class Life:
    """One part: how long it was in use (hours), and whether it was worn out then; else it is still in use, or was
    replaced for another reason, and would have lasted longer."""

    hours: float
    worn: bool


@dataclass(frozen=True)
class WeibullFit:
    """Survival after t hours is exp(-(t / scale)^shape). `early` to `late` is how long four of five parts last; `low`
    to `high` holds the true median 19 times in 20 (delta method on its logarithm)."""

    shape: float
    scale: float
    early: float
    median: float
    late: float
    low: float
    high: float
    worn: int

    def survives(self, hours: float) -> float:
        return exp(-exp(self.shape * log(hours / self.scale))) if hours > 0 else 1.0


def fit(lives: Sequence[Life]) -> WeibullFit | None:
    """The maximum likelihood fit with lives that were cut short (A. C. Cohen 1965, Technometrics 7, 579); None where
    fewer than `FEWEST` parts are worn out."""
    kept = [one for one in lives if one.hours > 0]
    worn = np.array([one.worn for one in kept], bool)
    if worn.sum() < FEWEST:
        return None
    hours = np.array([one.hours for one in kept], np.float64)
    logs = np.log(hours / hours.max())
    shape = _shape(logs, worn)
    scale = float(hours.max()) * float((np.exp(shape * logs).sum() / worn.sum()) ** (1 / shape))

    def after(share: float) -> float:
        return scale * exp(log(-log(1 - share)) / shape)

    error = _error_of_log_median(np.log(hours), worn, shape, scale)
    median = after(0.5)
    return WeibullFit(
        shape, scale, after(0.1), median, after(0.9), median * exp(-SURE_95 * error), median * exp(SURE_95 * error),
        int(worn.sum()),
    )  # fmt: skip


def _shape(logs: Floats, worn: np.ndarray[Any, np.dtype[np.bool_]]) -> float:
    """Where the slope of the likelihood is 0: it falls all the way, so that halving finds it."""

    def slope(shape: float) -> float:
        powers = np.exp(shape * logs)
        return float(1 / shape + logs[worn].mean() - (powers * logs).sum() / powers.sum())

    low, high = SHAPES
    if slope(high) > 0:
        return high
    for _ in range(80):
        middle = (low + high) / 2
        low, high = (middle, high) if slope(middle) > 0 else (low, middle)
    return (low + high) / 2


def _error_of_log_median(logs: Floats, worn: np.ndarray[Any, np.dtype[np.bool_]], shape: float, scale: float) -> float:
    """The standard error of the median's logarithm, from the observed information of (log scale, log shape)."""
    z = shape * (logs - log(scale))
    e = np.exp(z)
    a = shape * shape * e.sum()
    b = shape * (worn.sum() - e.sum() - (z * e).sum())
    c = (e * z * z).sum() + (e * z).sum() - (z[worn]).sum()
    determinant = a * c - b * b
    if determinant <= 0:
        return sqrt(1 / max(a, 1e-9))
    slope = -log(log(2)) / shape
    variance = (c + 2 * b * slope * -1 + a * slope * slope) / determinant
    return sqrt(max(float(variance), 0.0))
