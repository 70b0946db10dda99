"""What has been promised of orders and jobs, so that it does not flicker."""

from __future__ import annotations

from chronarch.core.orders.quantities import JobQuantities
from chronarch.core.planning.forecast import Completion
from chronarch.core.planning.promises import SteadyPromise, steady
from chronarch.records import tables as t
from chronarch.service.orders.outlook import JobOutlook

MOST_KEPT = 20_000


class PromiseKeeper:
    """Keeps the newest promise of each order and job that is looked at. After a restart they begin anew."""

    def __init__(self, outlook: JobOutlook) -> None:
        self._outlook = outlook
        self._kept: dict[str, SteadyPromise] = {}

    def keep(
        self, which: t.Job | t.Order, word: str, done: Completion, held: bool, *copies: JobQuantities
    ) -> SteadyPromise:
        """What is promised of an order or a job whose copies these are; `word` is what the chance says by itself."""
        at, around = self._outlook.circumstances()
        facts = {
            "due": which.due_at, "wanted": sum(c.wanted for c in copies), "scrap": sum(c.scrap for c in copies),
            "held": held, **around,
        }  # fmt: skip
        if len(self._kept) > MOST_KEPT:
            self._kept.clear()
        name = f"{which.__tablename__} {which.id}"
        kept = self._kept[name] = steady(self._kept.get(name), word, done.chance, facts, at)
        return kept
