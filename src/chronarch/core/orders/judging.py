"""What a person's verdict makes of a build."""

from __future__ import annotations

from chronarch.core.errors import CoreError
from chronarch.core.orders.states import Verdict


class BadVerdict(CoreError):
    """A verdict that contradicts itself or the build; it says what to say instead."""


def judged(build: int, pieces: int, verdict: Verdict, good: int | None, reason: str) -> tuple[Verdict, int]:
    """The verdict of a build that yields so many pieces, and how many of them are good. Some good pieces make a good
    build; no good piece makes it scrap. Raises BadVerdict."""
    if good is None:
        good = pieces if verdict is Verdict.GOOD else 0
    if good > pieces:
        raise BadVerdict(f"Build {build} yields {pieces}; {good} of them cannot be good.")
    if verdict is Verdict.SCRAP and good:
        raise BadVerdict(f"A build with {good} good pieces is good; say how many are, and what was wrong.")
    if good < pieces and not reason:
        raise BadVerdict("Pieces that are not good need a reason: say what was wrong with them.")
    return (Verdict.GOOD if good else Verdict.SCRAP), good
