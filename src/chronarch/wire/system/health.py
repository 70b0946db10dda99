"""How the service itself is."""

from __future__ import annotations

from chronarch.wire.common import Time, Wire


class DatabaseHealth(Wire):
    answered_in_s: float
    problem: str = ""


class TenderHealth(Wire):
    """A tender; `since` is None while it is not connected."""

    name: str
    since: Time | None
    machines: int


class WorkerHealth(Wire):
    """Work that goes on all the time: when its last step was done, and how long after it was due."""

    name: str
    beat_at: Time | None
    lag_s: float
    restarts: int
    problem: str = ""


class LoopHold(Wire):
    """The service did nothing else for `held_s`, of which it computed for `busy_s`; `where` says what it was at."""

    at: Time
    held_s: float
    busy_s: float
    where: str


class Health(Wire):
    """How the service itself is."""

    problems: list[str]
    """What is not as it should be, in words; empty when all is well."""
    database: DatabaseHealth
    disk_free: int
    """Bytes, where files are kept."""
    disk_size: int
    shop_now: Time
    real_now: Time
    rate: float
    """Shop seconds in one real second."""
    tenders: list[TenderHealth]
    workers: list[WorkerHealth]
    held: LoopHold | None
    """What held the service up longest in the last ten minutes; None when nothing did for more than 50 ms."""
    ledger_proved_at: Time | None = None
    """When the whole ledger was proved last, shop time."""
