"""Calls about orders, jobs, builds and stock."""

from __future__ import annotations

from datetime import datetime

from chronarch.client.call import Call, some
from chronarch.core.orders.states import Verdict
from chronarch.wire.orders import builds as ww
from chronarch.wire.orders import jobs as wj
from chronarch.wire.orders import orders as w
from chronarch.wire.orders.jobs import Job, JobChange, NewJob
from chronarch.wire.orders.stock import StockCount, StockRow


def submit(asked: NewJob, once: str = "") -> Call[Job]:
    """`once` is an Idempotency-Key."""
    return Call("POST", "/api/jobs", Job, body=asked, headers={"Idempotency-Key": once} if once else {})


def jobs(ended: bool = False) -> Call[list[Job]]:
    return Call("GET", "/api/jobs", list[Job], params=some(ended=ended))


def job(number: int) -> Call[Job]:
    return Call("GET", f"/api/jobs/{number}", Job)


def act_on_job(number: int, wish: str) -> Call[Job]:
    """`wish`: hold, release or withdraw."""
    return Call("POST", f"/api/jobs/{number}/{wish}", Job)


def pin_job(number: int, revision: int) -> Call[Job]:
    """Pin a job's waiting copies to a revision; 0 lets them follow the newest."""
    return Call("PATCH", f"/api/jobs/{number}", Job, body=JobChange(revision=revision))


def builds(machine: str | None = None, job: int | None = None, uncleared: bool = False) -> Call[list[ww.Build]]:
    """The newest of a machine or of a job; `history` finds any."""
    asked = some(machine=machine, job=job, uncleared=uncleared or None)
    return Call("GET", "/api/builds", list[ww.Build], params=asked)


def build(number: int) -> Call[ww.Build]:
    return Call("GET", f"/api/builds/{number}", ww.Build)


def verdict(number: int, verdict: Verdict, reason: str = "", good: int | None = None) -> Call[ww.Build]:
    """`good`: of a build of several pieces, how many are. Raises ValueError (pydantic) for scrap without a reason,
    before anything is sent."""
    clearing = ww.Clearing(verdict=verdict, reason=reason, good=good)
    return Call("POST", f"/api/builds/{number}/verdict", ww.Build, body=clearing)


def _match(version: int | None) -> dict[str, str]:
    return {} if version is None else {"If-Match": f'"{version}"'}


def orders(ended: bool = False) -> Call[list[w.OrderBrief]]:
    return Call("GET", "/api/orders", list[w.OrderBrief], params=some(ended=ended))


def order(number: int) -> Call[w.Order]:
    return Call("GET", f"/api/orders/{number}", w.Order)


def make_order(order: w.NewOrder, once: str = "") -> Call[w.Order]:
    """`once` is an Idempotency-Key."""
    return Call("POST", "/api/orders", w.Order, body=order, headers={"Idempotency-Key": once} if once else {})


def orders_from_csv(data: bytes) -> Call[list[w.Order]]:
    """Orders from CSV (RFC 4180): all of them are made, or none."""
    headers = {"Content-Type": "text/csv; charset=utf-8"}
    return Call("POST", "/api/orders/from-csv", list[w.Order], content=data, headers=headers)


def change_order(number: int, change: w.OrderChange) -> Call[w.Order]:
    return Call("PATCH", f"/api/orders/{number}", w.Order, body=change)


def cancel_order(number: int, wish: w.Cancel) -> Call[w.Order]:
    return Call("POST", f"/api/orders/{number}/cancel", w.Order, body=wish)


def repeat_order(number: int, due: datetime | None = None) -> Call[w.Order]:
    """The same once more, as it was."""
    return Call("POST", f"/api/orders/{number}/repeat", w.Order, body=w.OrderChange(due=due))


def stock() -> Call[list[StockRow]]:
    return Call("GET", "/api/stock", list[StockRow])


def count_stock(count: StockCount) -> Call[list[StockRow]]:
    return Call("PUT", "/api/stock", list[StockRow], body=count)


def queue() -> Call[wj.QueueLine]:
    """What waits, in order, with its version."""
    return Call("GET", "/api/queue", wj.QueueLine)


def move_jobs(jobs: list[int], before: int | None = None, version: int | None = None) -> Call[wj.QueueLine]:
    """Put jobs before another in the line. With `version` it is refused (412) when the line was changed since."""
    move = wj.QueueMove(jobs=jobs, before=before)
    return Call("POST", "/api/queue/move", wj.QueueLine, body=move, headers=_match(version))


def batch_jobs(asked: wj.JobBatch, version: int | None = None) -> Call[wj.QueueLine]:
    """Hold, release, withdraw, or put to the top several jobs: all, or none."""
    return Call("POST", "/api/queue/batch", wj.QueueLine, body=asked, headers=_match(version))


def change_job(number: int, change: wj.JobChange) -> Call[wj.Job]:
    return Call("PATCH", f"/api/jobs/{number}", wj.Job, body=change)
