"""Calls about what was: the ledger, utilisation, turnaround, history."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime

from chronarch.client.call import Call, at, some
from chronarch.client.library import Which
from chronarch.core.ledger.learning import History, ModelPace
from chronarch.wire.common import RequestDone
from chronarch.wire.ledger import change_points as wn
from chronarch.wire.ledger import costs as wc
from chronarch.wire.ledger import figures as wf
from chronarch.wire.ledger import history as wh
from chronarch.wire.ledger import intervals as wr
from chronarch.wire.ledger import reporting as wp
from chronarch.wire.ledger.intervals import LedgerEntry, TurnaroundReport
from chronarch.wire.ledger.worth import Worth
from chronarch.wire.machines.power import EnergyRow
from chronarch.wire.orders import builds as ww
from chronarch.wire.orders.jobs import Job


def paces() -> Call[list[ModelPace]]:
    return Call("GET", "/api/models/paces", list[ModelPace])


def ledger(
    begin: datetime | None = None, end: datetime | None = None, machine: str | None = None
) -> Call[list[LedgerEntry]]:
    return Call("GET", "/api/ledger", list[LedgerEntry], params=some(begin=begin, end=end, machine=machine))


def build_life(number: int) -> Call[wr.BuildLife]:
    """A build's life as the ledger has it, and the builds of its machine before and after it."""
    return Call("GET", at("builds", number, "life"), wr.BuildLife)


def build_layers(number: int) -> Call[wr.BuildLayers]:
    """How long a build's layers took, beside what was planned for them."""
    return Call("GET", at("builds", number, "layers"), wr.BuildLayers)


def verify_ledger(machine: str = "") -> Call[wr.LedgerProof]:
    """Prove that the ledger of a machine, or of all, is whole."""
    return Call("POST", "/api/ledger/verify", wr.LedgerProof, params=some(machine=machine or None))


def roll_up_ledger(before: date, *, do: bool = False) -> Call[wr.RollUpFigures]:
    """Have days tell what intervals tell of the time before a day; without `do` only say what it would come to."""
    return Call("POST", "/api/ledger/roll-up", wr.RollUpFigures, body=wr.RollUp(before=before, do=do))


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


def measures() -> Call[list[wf.MeasureInfo]]:
    """What can be asked of the records, each with its formula."""
    return Call("GET", "/api/report/measures", list[wf.MeasureInfo])


def figures(asked: wf.FiguresAsked) -> Call[wf.FiguresReport]:
    """Measures of the records by machine, place, calendar or what was made."""
    return Call("GET", "/api/report/figures", wf.FiguresReport, params=_said(asked))


def figures_csv(asked: wf.FiguresAsked) -> Call[str]:
    """The same as CSV."""
    return Call("GET", "/api/report/figures", str, params={**_said(asked), "format": "csv"})


def _said(asked: wf.FiguresAsked) -> dict[str, str]:
    said = asked.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    return some(**{name: ",".join(value) if isinstance(value, list) else value for name, value in said.items()})


def turnaround(begin: datetime | None = None, end: datetime | None = None) -> Call[TurnaroundReport]:
    return Call("GET", "/api/report/turnaround", TurnaroundReport, params=some(from_=begin, to=end))


def energy(
    by: Sequence[str] = ("machine",), begin: date | None = None, end: date | None = None, machine: str = "",
    build: int | None = None,
) -> Call[list[EnergyRow]]:  # fmt: skip
    """Wh that machines drew, grouped by any of machine, day, state and build."""
    asked = some(by=",".join(by), begin=begin, end=end, machine=machine or None, build=build)
    return Call("GET", "/api/report/energy", list[EnergyRow], params=asked)


def change_points(*, over: bool = False) -> Call[wn.ChangePointsReport]:
    """What has changed beyond chance, as the last pass found it; `over`: also what is over."""
    return Call("GET", "/api/report/change-points", wn.ChangePointsReport, params=some(over=over or None))


def look_for_change_points() -> Call[wn.ChangePointsReport]:
    """Look now instead of at night."""
    return Call("POST", "/api/report/change-points", wn.ChangePointsReport)


def change_point_seen(number: int, note: str = "") -> Call[wn.ChangePoint]:
    """Somebody has seen a change, and says what it is."""
    return Call("POST", f"/api/report/change-points/{number}/seen", wn.ChangePoint, body=wn.ChangePointSeen(note=note))


def worth(begin: datetime | None = None, end: datetime | None = None) -> Call[Worth]:
    """What the work of a time waited for, and what would have helped; of the last 28 days without a time."""
    return Call("GET", "/api/report/worth", Worth, params=some(from_=begin, to=end))


def cost_settings() -> Call[wc.CostSettings]:
    return Call("GET", "/api/costs/settings", wc.CostSettings)


def set_cost_settings(asked: wc.CostSettings) -> Call[wc.CostSettings]:
    return Call("PUT", "/api/costs/settings", wc.CostSettings, body=asked)


def cost_rates() -> Call[list[wc.CostRate]]:
    """All prices, each from when it holds."""
    return Call("GET", "/api/costs/rates", list[wc.CostRate])


def set_cost_rate(asked: wc.NewRate) -> Call[wc.CostRate]:
    """Set a price from a time on."""
    return Call("POST", "/api/costs/rates", wc.CostRate, body=asked)


def forget_cost_rate(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/costs/rates/{number}", RequestDone)


def build_cost(number: int) -> Call[wc.BuildCost]:
    """What a build cost, or has cost up to now."""
    return Call("GET", f"/api/builds/{number}/cost", wc.BuildCost)


def part_cost(which: Which) -> Call[wc.PartCosts]:
    """What a part should cost from each of its files on each model that can make it, the cheapest way first."""
    return Call("GET", at("parts", which, "cost"), wc.PartCosts)


def order_cost(number: int) -> Call[wc.OrderCost]:
    """What an order should cost, for what it may be offered, and what it has cost up to now."""
    return Call("GET", f"/api/orders/{number}/cost", wc.OrderCost)


def history(asked: wh.BuildSearch) -> Call[list[ww.Build]]:
    """Builds of all time that are asked for."""
    said = asked.model_dump(mode="json", exclude_defaults=True)
    return Call("GET", "/api/builds", list[ww.Build], params=some(**said))


def history_export(asked: wh.BuildSearch, form: wh.ExportForm) -> Call[bytes]:
    """The same as a file: all of them, as CSV, JSON Lines or Parquet."""
    said = asked.model_dump(mode="json", exclude_defaults=True)
    return Call("GET", "/api/builds/export", bytes, params=some(**said, format=form))


def saved_views() -> Call[list[wh.SavedView]]:
    """What people ask of the history again and again, by name."""
    return Call("GET", "/api/builds/views", list[wh.SavedView])


def save_view(name: str, asked: wh.BuildSearch) -> Call[wh.SavedView]:
    """Save what is asked for under a name, in place of what that name stood for."""
    return Call("PUT", at("builds", "views", name), wh.SavedView, body=asked)


def forget_view(name: str) -> Call[RequestDone]:
    return Call("DELETE", at("builds", "views", name), RequestDone)


def annotate_build(number: int, said: wh.BuildNote) -> Call[ww.Build]:
    """Write a note beside a build, or give it tags."""
    return Call("PATCH", f"/api/builds/{number}", ww.Build, body=said)


def make_again(builds: Sequence[int], copies: int = 1) -> Call[list[Job]]:
    """Make builds again, each as a job of its own with the same needs."""
    return Call("POST", "/api/builds/again", list[Job], body=wh.Again(builds=list(builds), copies=copies))


def report_plans() -> Call[list[wp.ReportPlan]]:
    return Call("GET", "/api/report/plans", list[wp.ReportPlan])


def add_report_plan(asked: wp.NewReportPlan) -> Call[wp.ReportPlan]:
    return Call("POST", "/api/report/plans", wp.ReportPlan, body=asked)


def change_report_plan(number: int, asked: wp.NewReportPlan) -> Call[wp.ReportPlan]:
    return Call("PUT", f"/api/report/plans/{number}", wp.ReportPlan, body=asked)


def drop_report_plan(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/report/plans/{number}", RequestDone)


def preview_report(number: int, before: datetime | None = None) -> Call[wp.ReportPage]:
    """What it says of the newest period that is over, or was over before a time."""
    return Call("GET", f"/api/report/plans/{number}/preview", wp.ReportPage, params=some(before=before))


def send_report(number: int, before: datetime | None = None) -> Call[wp.KeptReport]:
    return Call("POST", f"/api/report/plans/{number}/send", wp.KeptReport, params=some(before=before))


def kept_reports() -> Call[list[wp.KeptReport]]:
    return Call("GET", "/api/report/kept", list[wp.KeptReport])


def kept_report(number: int) -> Call[wp.ReportPage]:
    return Call("GET", f"/api/report/kept/{number}", wp.ReportPage)


def kept_report_pdf(number: int) -> Call[bytes]:
    return Call("GET", f"/api/report/kept/{number}/pdf", bytes)


def kept_report_csv(number: int) -> Call[str]:
    return Call("GET", f"/api/report/kept/{number}/csv", str)
