"""What a machine draws: its energy by state and build, and draws that do not fit what it does."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime

from chronarch.core.machines.states import MachineState

HANDED_ON_S = 900.0
"""Energy is handed on at least so often, shop seconds."""
LONGEST_GAP_S = 600.0
"""After a longer silence of the plug nothing is made up for the time without a count of its own."""


@dataclass(frozen=True)
class EnergyUse:
    """Wh that a machine drew between two times, in one state, for one build (None: for none)."""

    begin: datetime
    end: datetime
    state: MachineState
    build: int | None
    wh: float


@dataclass
class EnergyMeter:
    """Adds up what is drawn by state and build. A plug that counts itself is believed; of one that does not, W are
    summed over time by the trapezoid rule."""

    _at: datetime | None = None
    _watts: float | None = None
    _count: float | None = None
    _open: EnergyUse | None = None

    def take(
        self, at: datetime, state: MachineState, build: int | None, watts: float | None, wh: float | None
    ) -> EnergyUse | None:
        """A report of the plug, and what the machine does. Returns what is complete, if something is."""
        drawn = self._drawn(at, watts, wh)
        self._at, self._watts, self._count = at, watts, wh
        held, done = self._open, None
        if held is None or (held.state, held.build) != (state, build):
            done, held = held, EnergyUse(at, at, state, build, 0.0)
            if done is not None:  # what was drawn since the last report belongs to what it did until now
                done = EnergyUse(done.begin, at, done.state, done.build, done.wh + drawn)
                drawn = 0.0
        held = EnergyUse(held.begin, at, state, build, held.wh + drawn)
        if done is None and (at - held.begin).total_seconds() >= HANDED_ON_S:
            done, held = held, EnergyUse(at, at, state, build, 0.0)
        self._open = held
        return done if done is not None and done.wh > 0 else None

    def _drawn(self, at: datetime, watts: float | None, wh: float | None) -> float:
        if self._at is None:
            return 0.0
        if wh is not None and self._count is not None:
            return wh - self._count if wh >= self._count else wh  # a count that began anew
        gap_s = (at - self._at).total_seconds()
        if watts is None or self._watts is None or not 0 < gap_s <= LONGEST_GAP_S:
            return 0.0
        return (watts + self._watts) / 2 * gap_s / 3600


@dataclass(frozen=True)
class OddDraw:
    """A draw that does not fit: in which states, below or above how many W, for how long (s), and what to say."""

    states: frozenset[MachineState]
    heating: bool | None
    """Whether it is when a heater is far below what it is asked; None whatever they do."""
    least_w: float
    most_w: float
    for_s: float
    text: str


ODD = (
    OddDraw(
        frozenset({MachineState.WARMING, MachineState.BUILDING, MachineState.IDLE}), True, 0.0, 15.0, 120.0,
        "it heats, and draws {watts:.0f} W: look at its heaters and its plug",
    ),
    OddDraw(
        frozenset({MachineState.IDLE, MachineState.UNCLEARED, MachineState.OFFLINE, MachineState.DOWN}), False,
        100.0, 1e9, 3600.0, "it does nothing, and has drawn {watts:.0f} W for an hour: look whether a heater is on",
    ),
)  # fmt: skip
FAR_BELOW_C = 8.0


@dataclass
class PowerWatch:
    """Sees draws that do not fit; each is told once, and again after it has gone."""

    rules: Iterable[OddDraw] = ODD
    _since: dict[str, datetime] = field(default_factory=dict)
    _told: set[str] = field(default_factory=set)

    def look(self, at: datetime, state: MachineState, *, heating: bool, watts: float | None) -> list[str]:
        """What is to be told now."""
        found = []
        for rule in self.rules:
            fits = watts is not None and state in rule.states and rule.heating in (None, heating)
            if watts is None or not fits or not rule.least_w <= watts <= rule.most_w:
                self._since.pop(rule.text, None)
                self._told.discard(rule.text)
                continue
            since = self._since.setdefault(rule.text, at)
            if (at - since).total_seconds() >= rule.for_s and rule.text not in self._told:
                self._told.add(rule.text)
                found.append(rule.text.format(watts=watts))
        return found
