"""What has changed beyond chance: in each of many series, whether its level moved at some time, by how much, and how
often chance alone would show as much."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import exp, sqrt
from typing import Any

import numpy as np

from chronarch.core.ledger.shares import SURE_95, wilson
from chronarch.core.ledger.turnaround import Times

Floats = np.ndarray[Any, np.dtype[np.float64]]
RATE = 0.05
"""Of the changes that are named, at most this share is expected to be chance (Benjamini and Hochberg 1995)."""
FEWEST = 8
"""A change has at least so many observations on either side."""
MOST = 400
"""Longer series are looked at as means of so many runs of observations that follow one another."""
EXCEEDED, AT_ONCE = 10, 100
WINSORISED = 0.05


@dataclass(frozen=True)
class Series:
    """Observations in the order of time: `at` (microseconds since 1970), `values`, and what was to be expected of each
    (`expected`), for example the scrap share of its file on all machines, so that another mix of files is no change.
    Of a share the values are 0 and 1; else they and what is expected are logarithms."""

    at: Times
    values: Floats
    expected: Floats
    share: bool


@dataclass(frozen=True)
class ChangePoint:
    """The level before and after `since` (the first observation after it), from how many observations each. `size` is
    the difference of shares, or the ratio less one; `low` to `high` holds the true one 19 times in 20, were it known
    beforehand when it changed. `chance`: the share of orders of the same observations that look as much like a
    change."""

    since: int
    before: float
    after: float
    counted_before: int
    counted_after: int
    size: float
    low: float
    high: float
    chance: float


def look(series: Series, seed: int, smallest: float) -> ChangePoint | None:
    """The change in the level of a series that stands out most; None where it is too short to tell. `smallest` is
    the least chance that is worth telling apart from none."""
    if len(series.at) < 2 * FEWEST:
        return None
    residuals = series.values - series.expected
    scores = residuals if series.share else _ranks(residuals)
    edges = np.linspace(0, len(scores), min(len(scores), MOST) + 1).astype(np.int64)
    runs = np.add.reduceat(scores, edges[:-1]) / np.diff(edges)
    if np.ptp(runs) == 0:
        return None
    fewest = max(2, -(-FEWEST * len(runs) // len(scores)))
    found, place = _most(runs[None, :], fewest)
    chance = _chance(runs, float(found[0]), fewest, seed, smallest)
    return _change(series, residuals, int(edges[place[0] + fewest]), chance)


def named(changes: Sequence[float], rate: float = RATE) -> list[bool]:
    """Which of many chances stand for changes beyond chance, so that at most `rate` of those named are expected to be
    chance: the step-up procedure of Benjamini and Hochberg (1995). It holds for series that are independent, or depend
    on each other positively (Benjamini and Yekutieli 2001)."""
    order = sorted(range(len(changes)), key=lambda n: changes[n])
    passed = [k for k, n in enumerate(order, 1) if changes[n] <= k * rate / len(changes)]
    kept = set(order[: max(passed, default=0)])
    return [n in kept for n in range(len(changes))]


def _ranks(values: Floats) -> Floats:
    """Middle ranks, so that single odd values do not matter."""
    _, place, counts = np.unique(values, return_inverse=True, return_counts=True)
    middle = np.cumsum(counts) - (counts - 1) / 2
    ranks: Floats = middle[place]
    return ranks


def _most(rows: Floats, fewest: int) -> tuple[Floats, np.ndarray[Any, np.dtype[np.int64]]]:
    """Of each row: the largest difference between the means before and after any place, in its standard error, and
    the place (counted from `fewest`). The deviation of a row is the same in any order, so it is left out."""
    n = rows.shape[1]
    sums = np.cumsum(rows - rows.mean(axis=1, keepdims=True), axis=1)[:, fewest - 1 : n - fewest]
    at = np.arange(fewest, n - fewest + 1)
    scaled = np.abs(sums) / np.sqrt(at * (n - at))
    place = scaled.argmax(axis=1)
    return np.take_along_axis(scaled, place[:, None], axis=1)[:, 0], place


def _chance(runs: Floats, found: float, fewest: int, seed: int, smallest: float) -> float:
    """How often the same observations in another order show as much. Orders are drawn until `EXCEEDED` did, or so many
    that the chance is below `smallest` (Besag and Clifford 1991): for what is no change that takes few."""
    rng = np.random.default_rng(seed)
    exceeded, drawn, most = 0, 0, int(EXCEEDED / smallest)
    while drawn < most:
        rows = rng.permuted(np.broadcast_to(runs, (AT_ONCE, len(runs))), axis=1)
        hits = np.flatnonzero(_most(rows, fewest)[0] >= found * (1 - 1e-12))
        if exceeded + len(hits) >= EXCEEDED:
            return EXCEEDED / (drawn + int(hits[EXCEEDED - exceeded - 1]) + 1)
        exceeded, drawn = exceeded + len(hits), drawn + AT_ONCE
    return (exceeded + 1) / (drawn + 1)


def _change(series: Series, residuals: Floats, place: int, chance: float) -> ChangePoint:
    before, after = residuals[:place], residuals[place:]
    counts = len(before), len(after)
    since = int(series.at[place])
    if series.share:
        was, became = float(series.values[:place].mean()), float(series.values[place:].mean())
        size, low, high = _shares_apart(was, counts[0], became, counts[1])
        return ChangePoint(since, was, became, *counts, size, low, high, chance)
    was, became = (float(np.exp(np.median(part))) for part in (series.values[:place], series.values[place:]))
    size, low, high = _logs_apart(before, after)
    return ChangePoint(since, was, became, *counts, size, low, high, chance)


def _shares_apart(was: float, of: int, became: float, of_then: int) -> tuple[float, float, float]:
    """The difference of two shares with its interval: Newcombe (1998), method 10, from Wilson's intervals."""
    low, high = wilson(was * of, of)
    low_then, high_then = wilson(became * of_then, of_then)
    size = became - was
    return (
        size,
        size - sqrt((became - low_then) ** 2 + (high - was) ** 2),
        size + sqrt((high_then - became) ** 2 + (was - low) ** 2),
    )


def _logs_apart(before: Floats, after: Floats) -> tuple[float, float, float]:
    """The ratio of two geometric means less one, with its interval (Welch's, large sample); the outermost twentieth on
    either side counts as the value next to it, so that single odd values do not matter."""
    parts = [np.clip(part, *np.quantile(part, (WINSORISED, 1 - WINSORISED))) for part in (before, after)]
    apart = float(parts[1].mean() - parts[0].mean())
    error = sqrt(sum(float(part.var(ddof=1)) / len(part) for part in parts))
    return exp(apart) - 1, exp(apart - SURE_95 * error) - 1, exp(apart + SURE_95 * error) - 1
