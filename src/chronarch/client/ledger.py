"""Calls about what was: the ledger, utilisation, turnaround, history."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime

from chronarch.client.call import Call, at, some
from chronarch.client.library import Which
from chronarch.core.ledger.learning import History, ModelPace
from chronarch.wire import ledger as wr
from chronarch.wire.common import RequestDone
from chronarch.wire.ledger import LedgerEntry, TurnaroundReport
from chronarch.wire.machines.power import EnergyRow


def paces() -> Call[list[ModelPace]]:
    return Call("GET", "/api/models/paces", list[ModelPace])


def ledger(
    begin: datetime | None = None, end: datetime | None = None, machine: str | None = None
) -> Call[list[LedgerEntry]]:
    return Call("GET", "/api/ledger", list[LedgerEntry], params=some(begin=begin, end=end, machine=machine))


def rebuild_ledger() -> Call[RequestDone]:
    """Make the days that reports of long spans add up anew."""
    return Call("POST", "/api/ledger/rebuild", RequestDone)


def utilisation(begin: datetime | None = None, end: datetime | None = None) -> Call[wr.Utilisation]:
    return Call("GET", "/api/report/utilisation", wr.Utilisation, params=some(from_=begin, to=end))


def utilisation_csv(begin: datetime | None = None, end: datetime | None = None) -> Call[str]:
    params = some(from_=begin, to=end, format="csv")
    return Call("GET", "/api/report/utilisation", str, params=params)


def file_history(which: Which) -> Call[History]:
    return Call("GET", at("files", which, "history"), History)


def part_history(which: Which) -> Call[History]:
    return Call("GET", at("parts", which, "history"), History)


def turnaround(begin: datetime | None = None, end: datetime | None = None) -> Call[TurnaroundReport]:
    return Call("GET", "/api/report/turnaround", TurnaroundReport, params=some(from_=begin, to=end))


def energy(
    by: Sequence[str] = ("machine",), begin: date | None = None, end: date | None = None, machine: str = "",
    build: int | None = None,
) -> Call[list[EnergyRow]]:  # fmt: skip
    """Wh that machines drew, grouped by any of machine, day, state and build."""
    asked = some(by=",".join(by), begin=begin, end=end, machine=machine or None, build=build)
    return Call("GET", "/api/report/energy", list[EnergyRow], params=asked)
