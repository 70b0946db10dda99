"""How one reader of live pictures is served: newer frames rather than more, and smaller ones when they take long.

A reader says which frames it has got. Of each camera one frame is under way at most, so that what comes next is the
newest there is, however slow the line.
"""

from __future__ import annotations

from dataclasses import dataclass, field

MOST_UNDER_WAY = 6
SLOW_S, QUICK_S = 0.6, 0.25
"""Frames that take longer than the one to be got are sent small; once they take less than the other, full again."""
GIVEN_UP_S = 20.0
WEIGHT = 0.3


@dataclass
class ReaderPace:
    """All times are real seconds."""

    takes_s: float = 0.0
    """How long a frame is on its way, smoothed."""
    small: bool = False
    _under_way: dict[str, tuple[int, float]] = field(default_factory=dict)
    _last_s: dict[str, float] = field(default_factory=dict)

    def may_send(self, camera: str, every_s: float, now_s: float) -> bool:
        """Whether the newest frame of a camera may go out now, if this reader wants one each `every_s`."""
        sent = self._under_way.get(camera)
        if sent is not None and now_s - sent[1] < GIVEN_UP_S:
            return False
        busy = sum(now_s - at < GIVEN_UP_S for _, at in self._under_way.values())
        # a little early is better than a frame late: cameras do not keep time exactly
        return busy < MOST_UNDER_WAY and now_s - self._last_s.get(camera, -1e9) >= 0.8 * every_s

    def sent(self, camera: str, number: int, now_s: float) -> None:
        self._under_way[camera] = number, now_s
        self._last_s[camera] = now_s

    def got(self, number: int, now_s: float) -> None:
        """The reader has the frame of this number."""
        for camera, (sent, at) in list(self._under_way.items()):
            if sent == number:
                del self._under_way[camera]
                self.takes_s += WEIGHT * (now_s - at - self.takes_s)
                self.small = self.takes_s > (QUICK_S if self.small else SLOW_S)
