"""The states of a job, and what people say of a build."""

from __future__ import annotations

from enum import StrEnum


class Verdict(StrEnum):
    """What a person says of an ended build."""

    GOOD = "good"
    SCRAP = "scrap"


class JobState(StrEnum):
    WAITING = "waiting"
    HELD = "held"
    RUNNING = "running"
    FINISHED = "finished"
    WITHDRAWN = "withdrawn"
