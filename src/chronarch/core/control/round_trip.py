"""How long a wire takes to answer, estimated as RFC 6298 does for TCP."""

from __future__ import annotations

ALPHA, BETA, K = 1 / 8, 1 / 4, 4
"""The gains and the factor of RFC 6298, section 2."""
GRAIN_S = 0.05
"""How finely time is measured here: a tender looks at its clock this often."""
SEVERAL = 3
"""This many round trips of silence are needed before silence means anything."""


class RoundTrip:
    """Smoothed round trip, its variation, and how long to wait for an answer; all in real seconds.

    `least_s` and `most_s` bound the wait (RFC 6298, 2.4 and 2.5). Only what was sent once may be a sample (Karn's rule,
    section 3).
    """

    def __init__(self, least_s: float, most_s: float = 60.0) -> None:
        self.least_s, self.most_s = least_s, most_s
        self.smoothed_s: float | None = None
        self.variation_s = 0.0
        self.samples = 0
        self.wait_s = least_s
        self.backed_off = False
        """Whether the wait was doubled and no sample has come since."""

    def sample(self, took_s: float) -> None:
        """One answer came after so long to what was sent once."""
        self.samples += 1
        if self.smoothed_s is None:
            self.smoothed_s, self.variation_s = took_s, took_s / 2
        else:
            self.variation_s += BETA * (abs(self.smoothed_s - took_s) - self.variation_s)
            self.smoothed_s += ALPHA * (took_s - self.smoothed_s)
        self.backed_off = False
        self.wait_s = min(max(self.least_s, self._long_s(self.smoothed_s)), self.most_s)

    def back_off(self) -> None:
        """No answer came in time: wait twice as long for the next (5.5). It stays so until there is a sample."""
        self.wait_s = min(self.wait_s * 2, self.most_s)
        self.backed_off = True

    def quiet_s(self, least_s: float) -> float:
        """How long a wire must be silent, `least_s` or more, before nothing is still on its way."""
        if self.smoothed_s is None:
            return max(least_s, self.wait_s)
        return max(least_s, min(SEVERAL * self._long_s(self.smoothed_s), SEVERAL * self.most_s))

    def _long_s(self, smoothed_s: float) -> float:
        return smoothed_s + max(GRAIN_S, K * self.variation_s)
