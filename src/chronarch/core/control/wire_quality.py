"""How well a wire carries lines: how long it takes, and how much it damages. Times are real seconds."""

from __future__ import annotations

from collections import deque

from chronarch.core.control.protocol_events import DamagedWire, SlowWire
from chronarch.core.control.round_trip import RoundTrip

TRUSTED, TOO_BAD, TOO_GARBLED = 50, 8, 16
"""A wire that damages so many of so many lines, or so many of the answers to them, is not to be trusted: an eight-bit
checksum lets about one in a hundred of the lines pass that were damaged in more than one place."""

SLOW_S, SLOW_SAMPLES = 0.8, 5
"""A wire whose questions take so long to be answered, in the mean of so many, is slow."""


class WireQuality:
    """Of one link. `quiet_least_s` is how long, at the least, the wire must be silent before nothing is on its way."""

    def __init__(self, answer_timeout_s: float, quiet_least_s: float) -> None:
        self.lines = RoundTrip(answer_timeout_s)
        """The round trip of lines, for how long to wait."""
        self.questions = RoundTrip(0.0)
        """The round trip of questions, which no command of the machine delays."""
        self._quiet_least_s = quiet_least_s
        self.sent = 0
        self.sent_at_s = 0.0
        self.no_sample = True
        """Whether the line that is outstanding says nothing of the round trip."""
        self.asked_at_s: float | None = None
        """When the question that is outstanding was sent; None if more than one is."""
        self._complaints: deque[int] = deque(maxlen=TOO_BAD)
        self._garbled: deque[int] = deque(maxlen=TOO_GARBLED)
        self._told_slow = False

    @property
    def quiet_s(self) -> float:
        return self.lines.quiet_s(self._quiet_least_s)

    def connected(self) -> None:
        self._told_slow = False

    def line_answered(self, now_s: float) -> None:
        if not self.no_sample:
            self.lines.sample(now_s - self.sent_at_s)

    def question_answered(self, now_s: float) -> None:
        if self.asked_at_s is not None:
            took_s = now_s - self.asked_at_s
            self.lines.sample(took_s)
            self.questions.sample(took_s)
            self.asked_at_s = None

    def slow(self) -> list[SlowWire]:
        """That the wire is slow, once a connection."""
        mean_s = self.questions.smoothed_s
        if self._told_slow or self.questions.samples < SLOW_SAMPLES or mean_s is None or mean_s < SLOW_S:
            return []
        self._told_slow = True
        return [SlowWire(mean_s)]

    def line_damaged(self) -> list[DamagedWire]:
        """One more line arrived damaged at the machine."""
        return self._count(self._complaints)

    def answer_damaged(self) -> list[DamagedWire]:
        """One more answer arrived damaged here."""
        return self._count(self._garbled)

    def _count(self, damaged: deque[int]) -> list[DamagedWire]:
        damaged.append(self.sent)
        seen = self.sent - damaged[0]
        if len(damaged) < (damaged.maxlen or 0) or seen > TRUSTED:
            return []
        found = DamagedWire(min(1.0, len(damaged) / max(seen, len(damaged))))
        damaged.clear()
        return [found]

    @property
    def damages_lines(self) -> bool:
        """Whether what cannot be read is a damaged complaint rather than a fault."""
        return len(self._complaints) > 2 and self.sent - self._complaints[0] < TRUSTED
