"""Promises that do not flicker: a word changes only when something has happened, or when the chance has stayed beyond
its band for a while; and then it says why."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

LASTS = timedelta(minutes=30)
"""How long (shop time) a chance must stay in another band until the word follows it."""
BY_CHANCE = ("late", "at risk", "in time")
"""The words that a chance decides, from the worst to the best."""
HAPPENED = {
    "due": "its due time was changed",
    "wanted": "how much of it is wanted was changed",
    "held": "it was held or released",
    "scrap": "a build of it was scrap",
    "machines": "other machines work than before",
    "hours": "the hours or the strategy were changed",
}
"""What may happen that changes a promise, by the name of the fact that is different then."""


@dataclass(frozen=True)
class SteadyPromise:
    """What is promised since when, and why that changed; `facts` are what could have happened. `leans` is the word that
    the chance has been for since `leans_since`, if it is another."""

    word: str
    since: datetime
    facts: Mapping[str, object]
    why: str = ""
    leans: str = ""
    leans_since: datetime | None = None


def steady(
    before: SteadyPromise | None, word: str, chance: float | None, facts: Mapping[str, object], at: datetime
) -> SteadyPromise:
    """What is promised now. `word` is what the chance says by itself."""
    if before is None:
        return SteadyPromise(word, at, facts)
    happened = [text for name, text in HAPPENED.items() if before.facts.get(name) != facts.get(name)]
    if word == before.word:
        return replace(before, facts=facts, leans="", leans_since=None)
    if happened:
        return SteadyPromise(word, at, facts, "; ".join(happened))
    if word not in BY_CHANCE or before.word not in BY_CHANCE:
        return SteadyPromise(word, at, facts)
    of = f"{round(100 * (chance or 0.0))} of 100 futures are in time"
    if abs(BY_CHANCE.index(word) - BY_CHANCE.index(before.word)) > 1:
        return SteadyPromise(word, at, facts, of)
    since = before.leans_since if before.leans == word and before.leans_since is not None else at
    if at - since >= LASTS:
        return SteadyPromise(word, at, facts, f"for {LASTS // timedelta(minutes=1)} min now {of}")
    return replace(before, leans=word, leans_since=since)
