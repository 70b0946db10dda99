"""Calls about orders, the line and stock, as values. No I/O."""

from __future__ import annotations

from datetime import datetime

from chronarch.client.requests import Call, some
from chronarch.wire import orders as w
from chronarch.wire import work as ww


def _match(version: int | None) -> dict[str, str]:
    return {} if version is None else {"If-Match": f'"{version}"'}


def orders(ended: bool = False) -> Call[list[w.OrderBrief]]:
    return Call("GET", "/api/orders", list[w.OrderBrief], params=some(ended=ended))


def order(number: int) -> Call[w.Order]:
    return Call("GET", f"/api/orders/{number}", w.Order)


def make_order(order: w.OrderOrder, once: str = "") -> Call[w.Order]:
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


def stock() -> Call[list[w.StockRow]]:
    return Call("GET", "/api/stock", list[w.StockRow])


def count_stock(count: w.StockCount) -> Call[list[w.StockRow]]:
    return Call("PUT", "/api/stock", list[w.StockRow], body=count)


def queue() -> Call[ww.QueueLine]:
    """What waits, in order, with its version."""
    return Call("GET", "/api/queue", ww.QueueLine)


def move(jobs: list[int], before: int | None = None, version: int | None = None) -> Call[ww.QueueLine]:
    """Put jobs before another in the line. With `version` it is refused (412) when the line was changed since."""
    order = ww.QueueMove(jobs=jobs, before=before)
    return Call("POST", "/api/queue/move", ww.QueueLine, body=order, headers=_match(version))


def batch(order: ww.JobBatch, version: int | None = None) -> Call[ww.QueueLine]:
    """Hold, release, withdraw, or put to the top several jobs: all, or none."""
    return Call("POST", "/api/queue/batch", ww.QueueLine, body=order, headers=_match(version))


def job_why(number: int) -> Call[ww.JobWhy]:
    return Call("GET", f"/api/jobs/{number}/why", ww.JobWhy)


def change_job(number: int, change: ww.JobChange) -> Call[ww.Job]:
    return Call("PATCH", f"/api/jobs/{number}", ww.Job, body=change)
