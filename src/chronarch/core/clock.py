"""Where time comes from.

Production lives in *shop time* (builds, ledger, heat, hands), which may run at a rate. Sockets, retries and sign-in
live in *real time*. A process gets one `Clock` at its top and asks it for both.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Protocol


class Clock(Protocol):
    """Tells shop time and real time."""

    @property
    def rate(self) -> float:
        """Shop seconds that pass in one real second."""

    def now(self) -> datetime:
        """Shop time, UTC, with microseconds."""

    def monotonic_s(self) -> float:
        """Real seconds from an arbitrary start; never goes back."""

    def real_now(self) -> datetime:
        """Real time, UTC: for sign-in, sessions and log stamps."""

    def set_by_s(self) -> float:
        """How far somebody has set the computer's own clock that this one has not made up for yet, real seconds."""


SLEW = 0.05
"""How fast a clock follows when the computer's own clock was set: this share of the time that passes."""


class SteadyWall:
    """The computer's wall clock without its jumps. It runs as the monotonic clock does, and a change of the wall clock
    is made up for slowly. A heater that is watched for 40 s must not seem watched for an hour because somebody set the
    clock, and no event may seem to happen before the one that it followed."""

    def __init__(
        self, wall_s: Callable[[], float] = time.time, monotonic_s: Callable[[], float] = time.monotonic
    ) -> None:
        self._wall_s, self._monotonic_s = wall_s, monotonic_s
        self._seen = monotonic_s()
        self._ahead = wall_s() - self._seen

    def now(self) -> datetime:
        """UTC; never goes back."""
        seen = self._monotonic_s()
        most = SLEW * (seen - self._seen)
        self._ahead += min(most, max(-most, self._wall_s() - seen - self._ahead))
        self._seen = seen
        return datetime.fromtimestamp(seen + self._ahead, UTC)

    def set_by_s(self) -> float:
        """How far the wall clock has been set and this one has not followed yet, s."""
        self.now()
        return self._wall_s() - self._seen - self._ahead


class BootWall:
    """A wall clock of this computer that is read once and runs on by the monotonic one. The processes that are given
    the same two figures agree until the computer starts anew, whatever its wall clock is set to between their
    starts."""

    def __init__(self, read: datetime, monotonic_s: float) -> None:
        self.read, self.read_at_s = read, monotonic_s

    def now(self) -> datetime:
        """UTC; never goes back."""
        return self.read + timedelta(seconds=time.monotonic() - self.read_at_s)

    def set_by_s(self) -> float:
        """0: it does not follow."""
        return 0.0


_WALL = SteadyWall()


@dataclass(frozen=True)
class ScaledClock:
    """Shop time that stood at `shop_origin` when real time stood at `real_origin`, and runs at `rate`.

    Two processes of one computer that are given what `spec` says agree on shop time.
    """

    real_origin: datetime
    shop_origin: datetime
    rate: float
    wall: SteadyWall | BootWall = field(default_factory=lambda: _WALL, compare=False, repr=False)

    def __post_init__(self) -> None:
        if not 0 < self.rate <= 10_000:
            raise ValueError(f"A clock's rate must lie above 0 and up to 10000, not {self.rate}.")

    def now(self) -> datetime:
        return self.shop_origin + (self.real_now() - self.real_origin) * self.rate

    def monotonic_s(self) -> float:
        return time.monotonic()

    def real_now(self) -> datetime:
        return self.wall.now()

    def set_by_s(self) -> float:
        return self.wall.set_by_s()

    def spec(self) -> str:
        """The clock as one word, for an environment variable: `REAL|SHOP|RATE`, and `|MONOTONIC`, what this computer's
        monotonic clock showed at `REAL`, if it runs by that alone; `parse_clock` reads it."""
        told = f"{self.real_origin.isoformat()}|{self.shop_origin.isoformat()}|{self.rate:g}"
        return f"{told}|{self.wall.read_at_s!r}" if isinstance(self.wall, BootWall) else told


def shared_clock(shop_origin: datetime, rate: float) -> ScaledClock:
    """A clock for the processes of a shop that lives on this computer alone: it stands at `shop_origin` now."""
    now = datetime.now(UTC)
    return ScaledClock(now, shop_origin, rate, BootWall(now, time.monotonic()))


def real_clock() -> ScaledClock:
    """The clock of a real shop: shop time is real time."""
    epoch = datetime(2000, 1, 1, tzinfo=UTC)
    return ScaledClock(epoch, epoch, 1.0)


def parse_clock(spec: str) -> ScaledClock:
    """Read what `ScaledClock.spec` wrote; an empty text gives the real clock.

    Raises ValueError, saying what is wanted, for anything else.
    """
    if not spec:
        return real_clock()
    try:
        real, shop, rate, *monotonic = spec.split("|")
        read = datetime.fromisoformat(real)
        wall = BootWall(read, *(float(one) for one in monotonic)) if monotonic else _WALL
        return ScaledClock(read, datetime.fromisoformat(shop), float(rate), wall)
    except (ValueError, TypeError) as error:
        wanted = "REAL|SHOP|RATE or REAL|SHOP|RATE|MONOTONIC with ISO 8601 times"
        raise ValueError(f"A clock is written {wanted}, not {spec!r} ({error}).") from error


class ManualClock:
    """A clock that stands until told to advance: for tests, and for running rules forward over a past."""

    def __init__(self, now: datetime, rate: float = 1.0) -> None:
        self._now = now
        self._real_s = 0.0
        self._rate = rate

    @property
    def rate(self) -> float:
        return self._rate

    def now(self) -> datetime:
        return self._now

    def monotonic_s(self) -> float:
        return self._real_s

    def real_now(self) -> datetime:
        return self._now

    def set_by_s(self) -> float:
        return 0.0

    def advance(self, shop_s: float) -> None:
        """Let `shop_s` seconds of shop time pass (and the real time that goes with them)."""
        self._now += timedelta(seconds=shop_s)
        self._real_s += shop_s / self._rate
