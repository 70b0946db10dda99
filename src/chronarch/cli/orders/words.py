"""Orders and jobs in words."""

from __future__ import annotations

from datetime import datetime

from rich.text import Text

from chronarch.cli.output import clock_time
from chronarch.core.orders.requirement import Requirement
from chronarch.core.time_range import TimeRange


def needs(r: Requirement) -> str:
    """A requirement in a few words."""
    words = [
        f"{r.colour} {r.material}".strip(),
        f"{r.nozzle_mm:g} mm" if r.nozzle_mm else "",
        "hardened" if r.hardened else "",
        r.model,
        f"pool {r.pool}" if r.pool else "",
        r.tags,
        " x ".join(f"{v:g}" for v in r.volume_mm) + " mm" if r.volume_mm else "",
        f"on {r.machine}" if r.machine else "",
    ]
    return ", ".join(word for word in words if word) or "any"


LOOKS = {"in time": "green", "at risk": "bold yellow", "late": "bold red", "unknown": "bold red", "done": "dim"}


def promise_text(promise: str, chance: float | None = None) -> Text:
    """The word, and how many of a hundred futures are in time."""
    share = f", {round(100 * chance)} of 100" if chance is not None and promise not in ("none", "done") else ""
    return Text("" if promise == "none" else promise + share, style=LOOKS.get(promise, ""))


def range_text(r: TimeRange | None, now: datetime | None = None) -> str:
    """When something is expected: the likely time and the range around it. With `now`, without the day for times of
    today."""
    if r is None:
        return "not as things are"
    likely = clock_time(r.likely, now)
    early, late = r.early.astimezone(), r.late.astimezone()
    short = early.date() == late.date() == r.likely.astimezone().date()
    return f"{likely} ({early:%H:%M} to {late:%H:%M})" if short else (
        f"{likely} ({early:%a %H:%M} to {late:%a %H:%M})"
    )  # fmt: skip
