"""Shares of counts, with how sure they are."""

from __future__ import annotations

from math import sqrt

SURE_95 = 1.959963984540054
"""The standard normal's 97.5th percentile: intervals are meant to hold the true share 19 times in 20."""


def wilson(some: float, of: float, sure: float = SURE_95) -> tuple[float, float]:
    """The interval of a share of which `some` of `of` were seen: the score interval (E. B. Wilson, 1927, J. Am. Stat.
    Assoc. 22, 209). (0, 1) where nothing was seen."""
    if of <= 0:
        return 0.0, 1.0
    share, square = some / of, sure * sure
    middle = (share + square / (2 * of)) / (1 + square / of)
    half = sure / (1 + square / of) * sqrt(share * (1 - share) / of + square / (4 * of * of))
    return max(0.0, middle - half), min(1.0, middle + half)
