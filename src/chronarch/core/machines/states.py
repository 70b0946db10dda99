"""The states of machines, builds and jobs, each as one table of state x event -> state.

docs/states.md shows them as diagrams.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import TypeVar


class MachineState(StrEnum):
    """What a machine is doing, as the ledger records it."""

    IDLE = "idle"
    WARMING = "warming"
    BUILDING = "building"
    PAUSED = "paused"
    COOLING = "cooling"
    UNCLEARED = "uncleared"
    DOWN = "down"
    SERVICE = "service"
    OFFLINE = "offline"


class MachineEvent(StrEnum):
    """What moves a machine from one state to the next."""

    START = "start"
    LAID = "laid"
    PAUSE = "pause"
    RESUME = "resume"
    END = "end"
    COOLED = "cooled"
    CLEAR = "clear"
    FAULT = "fault"
    MENDED = "mended"
    MENDED_WITH_PART = "mended_with_part"
    TAKE_OUT = "take_out"
    PUT_BACK = "put_back"


class Intake(StrEnum):
    """How a machine takes work: by itself, when a person starts each build, or not at all."""

    OPEN = "open"
    MANUAL = "manual"
    CLOSED = "closed"


class BuildState(StrEnum):
    STARTING = "starting"
    BUILDING = "building"
    PAUSED = "paused"
    ENDED = "ended"


class BuildEvent(StrEnum):
    BEGIN = "begin"
    PAUSE = "pause"
    RESUME = "resume"
    END = "end"


class Outcome(StrEnum):
    """How a build ended."""

    COMPLETED = "completed"
    STOPPED = "stopped"
    FAILED = "failed"


S, E = MachineState, MachineEvent

MACHINE: Mapping[tuple[MachineState, MachineEvent], MachineState] = {
    (S.IDLE, E.START): S.WARMING,
    (S.IDLE, E.TAKE_OUT): S.SERVICE,
    (S.IDLE, E.FAULT): S.DOWN,
    (S.WARMING, E.LAID): S.BUILDING,
    (S.WARMING, E.PAUSE): S.PAUSED,
    (S.WARMING, E.END): S.COOLING,
    (S.WARMING, E.FAULT): S.DOWN,
    (S.BUILDING, E.PAUSE): S.PAUSED,
    (S.BUILDING, E.END): S.COOLING,
    (S.BUILDING, E.FAULT): S.DOWN,
    (S.PAUSED, E.RESUME): S.WARMING,
    (S.PAUSED, E.END): S.COOLING,
    (S.PAUSED, E.FAULT): S.DOWN,
    (S.COOLING, E.COOLED): S.UNCLEARED,
    (S.COOLING, E.FAULT): S.DOWN,
    (S.UNCLEARED, E.CLEAR): S.IDLE,
    (S.UNCLEARED, E.FAULT): S.DOWN,
    (S.DOWN, E.MENDED): S.IDLE,
    (S.DOWN, E.MENDED_WITH_PART): S.UNCLEARED,
    (S.SERVICE, E.PUT_BACK): S.IDLE,
    (S.SERVICE, E.FAULT): S.DOWN,
}
"""`offline` is not in the table: it lies over any state while the machine is not connected, and lifting it shows that
state again."""

BUILD: Mapping[tuple[BuildState, BuildEvent], BuildState] = {
    (BuildState.STARTING, BuildEvent.BEGIN): BuildState.BUILDING,
    (BuildState.STARTING, BuildEvent.PAUSE): BuildState.PAUSED,
    (BuildState.STARTING, BuildEvent.END): BuildState.ENDED,
    (BuildState.BUILDING, BuildEvent.PAUSE): BuildState.PAUSED,
    (BuildState.BUILDING, BuildEvent.END): BuildState.ENDED,
    (BuildState.PAUSED, BuildEvent.RESUME): BuildState.BUILDING,
    (BuildState.PAUSED, BuildEvent.END): BuildState.ENDED,
}

WORKING = frozenset({S.WARMING, S.BUILDING, S.PAUSED})
"""Machine states in which a build is under way."""

PRODUCTIVE = frozenset({S.WARMING, S.BUILDING})
"""Machine states counted as printing time: heating and laying material for a build (ISO 22400: actual unit processing
time with its set-up)."""

StateT = TypeVar("StateT", bound=StrEnum)
EventT = TypeVar("EventT", bound=StrEnum)


class WrongState(Exception):
    """An event came in a state whose table has no row for it."""


class TooLate(WrongState):
    """What was asked for came too late."""


def after(table: Mapping[tuple[StateT, EventT], StateT], state: StateT, event: EventT) -> StateT:
    """The state that follows `event` in `state`. Raises WrongState where the table has no such row."""
    try:
        return table[state, event]
    except KeyError:
        allowed = ", ".join(sorted(e for s, e in table if s == state)) or "nothing"
        raise WrongState(f"'{event}' cannot happen while {state}; possible: {allowed}.") from None


def diagram(table: Mapping[tuple[StateT, EventT], StateT]) -> str:
    """The table as a Mermaid state diagram."""
    rows = "\n".join(f"    {s} --> {t}: {e}" for (s, e), t in table.items())
    return f"```mermaid\nstateDiagram-v2\n{rows}\n```\n"
