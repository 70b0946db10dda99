"""What can be asked of the records: each measure is one row of a table, worked out from sums that anybody can check."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum

from chronarch.core.ledger.shares import wilson
from chronarch.core.machines.states import PRODUCTIVE, MachineState

Sums = Mapping[str, float]
"""What is counted: seconds in a state by the state's name, and of builds that ended what `BUILD_SUMS` names."""
BUILD_SUMS = (
    "builds", "judged", "good", "scrap", "pieces", "good_pieces", "made_s", "completed_s", "planned_s",
    "grams", "due", "on_time", "by_hand", "cost", "scrap_cost",
)  # fmt: skip


class Basis(StrEnum):
    """What a measure is worked out from."""

    TIME = "time"
    """The machines' intervals."""
    BUILDS = "builds"
    """Builds that ended."""
    BOTH = "both"
    GAPS = "gaps"
    """The times from the end of a build to the start of the next."""
    STOPS = "stops"
    """The times when a machine was paused or down, each with why."""


class Unit(StrEnum):
    SHARE = "share"
    HOURS = "h"
    MINUTES = "min"
    GRAMS = "g"
    WH = "Wh"
    COUNT = "count"
    TIMES = "times"
    MONEY = "money"


WRITTEN: Mapping[Unit, Callable[[float], str]] = {
    Unit.SHARE: lambda value: f"{value:.1%}",
    Unit.HOURS: lambda value: f"{value:,.1f} h",
    Unit.MINUTES: lambda value: f"{value:,.0f} min",
    Unit.GRAMS: lambda value: f"{value:,.0f} g",
    Unit.WH: lambda value: f"{value / 1000:,.2f} kWh",
    Unit.COUNT: lambda value: f"{value:,.0f}",
    Unit.TIMES: lambda value: f"{value:.2f} ×",
    Unit.MONEY: lambda value: f"{value:,.2f}",
}
"""How a value is written, by its unit."""


@dataclass(frozen=True)
class Figure:
    """A value, with the interval that holds the true one 19 times in 20 where that can be said."""

    value: float
    low: float | None = None
    high: float | None = None


@dataclass(frozen=True)
class Measure:
    """One measure. `counts` names the sums that it is worked out from, in the order of its formula."""

    name: str
    title: str
    unit: Unit
    source: Basis
    formula: str
    counts: tuple[str, ...]
    of: Callable[[Sums], Figure | None]


STATES = tuple(MachineState)
TURNAROUND = "turnaround"
MIDDLE_MIN = "middle_min"
"""The median of the gaps: the one sum that is none."""


def _recorded(s: Sums) -> float:
    return sum(s.get(state, 0.0) for state in STATES)


def _share(some: float, of: float) -> Figure | None:
    return Figure(some / of) if of else None


def _seen(some: float, of: float) -> Figure | None:
    return Figure(some / of, *wilson(some, of)) if of else None


def _productive(s: Sums) -> Figure | None:
    return _share(sum(s.get(state, 0.0) for state in PRODUCTIVE), _recorded(s))


def _in_state(state: MachineState) -> Callable[[Sums], Figure | None]:
    return lambda s: _share(s.get(state, 0.0), _recorded(s))


def _availability(s: Sums) -> Figure | None:
    return _share(s.get("building", 0.0), _recorded(s) - s.get("service", 0.0))


def _effectiveness(s: Sums) -> Figure | None:
    return _share(s.get("made_s", 0.0), s.get("building", 0.0))


def _quality(s: Sums) -> Figure | None:
    return _share(s.get("good_pieces", 0.0), s.get("pieces", 0.0))


def _oee(s: Sums) -> Figure | None:
    parts = [part(s) for part in (_availability, _effectiveness, _quality)]
    product = 1.0
    for part in parts:
        if part is None:
            return None
        product *= part.value
    return Figure(product)


def _count(name: str) -> Callable[[Sums], Figure | None]:
    return lambda s: Figure(s.get(name, 0.0))


def _hours(name: str, of: str) -> Callable[[Sums], Figure | None]:
    return lambda s: _share(s.get(name, 0.0) / 3600, s.get(of, 0.0))


def _between_failures(s: Sums) -> Figure | None:
    return _share(sum(s.get(state, 0.0) for state in PRODUCTIVE) / 3600, s.get("downs", 0.0))


MEASURES = (
    Measure("productive", "Productive share", Unit.SHARE, Basis.TIME, "(warming + building) ÷ recorded time",
            ("warming", "building", "recorded"), _productive),
    *(
        Measure(f"{state}_share", f"Share of time {state}", Unit.SHARE, Basis.TIME, f"{state} ÷ recorded time",
                (state, "recorded"), _in_state(state))
        for state in STATES
    ),
    Measure("availability", "Availability", Unit.SHARE, Basis.TIME,
            "APT ÷ PBT: building ÷ (recorded time − service)", ("building", "recorded", "service"), _availability),
    Measure("effectiveness", "Effectiveness", Unit.SHARE, Basis.BOTH,
            "PRI × PQ ÷ APT: planned seconds of what was laid ÷ building", ("made_s", "building"), _effectiveness),
    Measure("quality", "Quality rate", Unit.SHARE, Basis.BUILDS, "GQ ÷ PQ: good pieces ÷ pieces that were judged",
            ("good_pieces", "pieces"), _quality),
    Measure("oee", "OEE", Unit.SHARE, Basis.BOTH, "availability × effectiveness × quality rate",
            ("building", "recorded", "service", "made_s", "good_pieces", "pieces"), _oee),
    Measure("turnaround", "Turnaround", Unit.MINUTES, Basis.GAPS,
            "median of the times from the end of a build to the start of the next on the machine", ("gaps",),
            lambda s: Figure(s[MIDDLE_MIN]) if s.get("gaps") else None),
    Measure("builds", "Builds", Unit.COUNT, Basis.BUILDS, "builds that ended", (), _count("builds")),
    Measure("good", "Good builds", Unit.COUNT, Basis.BUILDS, "builds judged good", (), _count("good")),
    Measure("scrap", "Scrap", Unit.COUNT, Basis.BUILDS, "builds judged scrap", (), _count("scrap")),
    Measure("scrap_share", "Scrap share", Unit.SHARE, Basis.BUILDS, "scrap ÷ builds that were judged",
            ("scrap", "judged"), lambda s: _seen(s.get("scrap", 0.0), s.get("judged", 0.0))),
    Measure("good_share", "Good share", Unit.SHARE, Basis.BUILDS, "good ÷ builds that were judged",
            ("good", "judged"), lambda s: _seen(s.get("good", 0.0), s.get("judged", 0.0))),
    Measure("on_time", "On time", Unit.SHARE, Basis.BUILDS,
            "good builds that ended by their job's due time ÷ good builds of jobs that have one",
            ("on_time", "due"), lambda s: _seen(s.get("on_time", 0.0), s.get("due", 0.0))),
    Measure("pace", "Real against planned", Unit.TIMES, Basis.BUILDS,
            "seconds that completed builds took ÷ seconds that were planned for them", ("completed_s", "planned_s"),
            lambda s: _share(s.get("completed_s", 0.0), s.get("planned_s", 0.0))),
    Measure("grams", "Filament", Unit.GRAMS, Basis.BUILDS, "grams laid in builds that ended", (), _count("grams")),
    Measure("wh", "Energy", Unit.WH, Basis.BUILDS, "Wh drawn for builds that ended", (), _count("wh")),
    Measure("cost", "Cost", Unit.MONEY, Basis.BUILDS, "what builds cost that ended and whose bed is clear", (),
            _count("cost")),
    Measure("scrap_cost", "Cost of scrap", Unit.MONEY, Basis.BUILDS, "what builds cost that were judged scrap", (),
            _count("scrap_cost")),
    Measure("cost_each", "Cost of a good piece", Unit.MONEY, Basis.BUILDS, "cost of all builds ÷ good pieces",
            ("cost", "good_pieces"), lambda s: _share(s.get("cost", 0.0), s.get("good_pieces", 0.0))),
    Measure("between_failures", "Mean time between failures", Unit.HOURS, Basis.TIME,
            "(warming + building) ÷ times a machine went down", ("warming", "building", "downs"), _between_failures),
    Measure("to_repair", "Mean time to repair", Unit.HOURS, Basis.TIME, "down ÷ times a machine went down",
            ("down", "downs"), _hours("down", "downs")),
    Measure("stops", "Stops", Unit.COUNT, Basis.STOPS, "times a machine was paused or went down", (), _count("stops")),
    Measure("stopped", "Time stopped", Unit.HOURS, Basis.STOPS, "paused + down, of stops that began in the time",
            ("stopped_s", "stops"), lambda s: Figure(s.get("stopped_s", 0.0) / 3600)),
    Measure("hands", "Hands' minutes", Unit.MINUTES, Basis.BUILDS,
            "beds that people cleared × the minutes that takes by the shop's own figure", ("by_hand",),
            _count("hand_min")),
)  # fmt: skip
SECONDS = {
    **{str(state): str(state) for state in STATES}, "recorded": "recorded", "made_s": "planned for what was laid",
    "completed_s": "took", "planned_s": "planned", "stopped_s": "stopped",
}  # fmt: skip
COUNTS = {
    "good_pieces": "good pieces", "pieces": "pieces", "downs": "times down", "gaps": "gaps", "by_hand": "beds cleared",
    "on_time": "on time", "due": "with a due time", "scrap": "scrap", "good": "good", "judged": "judged",
    "stops": "stops", "cost": "cost",
}  # fmt: skip
"""What measures are worked out from, in words: sums of seconds, and counts."""
BY_NAME = {measure.name: measure for measure in MEASURES}


def counted(measure: Measure, sums: Sums) -> dict[str, float]:
    """The sums that a measure is worked out from, by name."""
    return {name: _recorded(sums) if name == "recorded" else sums.get(name, 0.0) for name in measure.counts}


def added(several: Iterable[Sums]) -> Counter[str]:
    """Sums of everything together. The median of gaps cannot be added, and is left out."""
    found: Counter[str] = Counter()
    for sums in several:
        for name, amount in sums.items():
            if name != MIDDLE_MIN:
                found[name] += amount  # type: ignore[assignment]
    return found
