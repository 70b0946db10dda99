"""The phases of a build that is fed line by line, as one table. docs/states.md shows it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, auto


class FeedingPhase(Enum):
    RESTING = auto()
    FEEDING = auto()
    TURNING = auto()
    ASIDE = auto()
    PAUSING = auto()
    PARKING = auto()
    PARKED = auto()
    REHEATING = auto()
    RETURNING = auto()
    STOPPING = auto()
    ENDING = auto()
    ASKING = auto()


class Step(Enum):
    """What the feeder does next, in words."""

    NOTHING = "-"
    INJECT = "the next injected commands, if any"
    PARK_OR_INJECT = "parking, at a pause; else aside, with a frame's or injected commands; else feeding"
    INJECT_OR_FEED = "aside, with the next injected commands; else feeding"
    PARK = "parking"
    PARK_OR_COMPLETE = "ending (completed), if it was the file; else parking"
    COMPLETE = "ending (completed)"
    STAND = "parked"
    RETURN = "returning"
    FEED_ON = "feeding"
    END = "ending"
    REST = "resting; the build is over"


@dataclass(frozen=True)
class PhaseRule:
    """What the link carries in a phase, and what follows: once it is held and no line is outstanding, and once the
    machine has taken all that was carried."""

    carries: str
    held: Step
    finished: Step


PHASES = {
    FeedingPhase.RESTING: PhaseRule("nothing, or injected commands", Step.NOTHING, Step.INJECT),
    FeedingPhase.FEEDING: PhaseRule("the file", Step.PARK_OR_INJECT, Step.COMPLETE),
    FeedingPhase.TURNING: PhaseRule("the file", Step.PARK_OR_INJECT, Step.COMPLETE),
    FeedingPhase.ASIDE: PhaseRule("injected commands", Step.NOTHING, Step.INJECT_OR_FEED),
    FeedingPhase.PAUSING: PhaseRule("the file, or what heats again", Step.PARK, Step.PARK_OR_COMPLETE),
    FeedingPhase.PARKING: PhaseRule("what parks the head", Step.NOTHING, Step.STAND),
    FeedingPhase.PARKED: PhaseRule("nothing, or injected commands", Step.NOTHING, Step.INJECT),
    FeedingPhase.REHEATING: PhaseRule("what heats again", Step.NOTHING, Step.RETURN),
    FeedingPhase.RETURNING: PhaseRule("what goes back to the part", Step.NOTHING, Step.FEED_ON),
    FeedingPhase.STOPPING: PhaseRule("the rest of any of these", Step.END, Step.END),
    FeedingPhase.ENDING: PhaseRule("what ends the build", Step.NOTHING, Step.REST),
    FeedingPhase.ASKING: PhaseRule("nothing: a new tender asks the machine where it is", Step.NOTHING, Step.NOTHING),
}

ON_FILE = frozenset({FeedingPhase.FEEDING, FeedingPhase.TURNING, FeedingPhase.PAUSING})
OVER = frozenset({FeedingPhase.RESTING, FeedingPhase.STOPPING, FeedingPhase.ENDING})
STANDING = frozenset({FeedingPhase.PARKING, FeedingPhase.PARKED, FeedingPhase.ASKING})
"""Phases of a build that stands already."""
