"""What orders and jobs need to know of the future. The planner answers; orders do not know how."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Annotated, Protocol

from chronarch.core.planning.forecast import Completion
from chronarch.service.context import part
from chronarch.service.orders.waiting_jobs import WaitingJob


class JobOutlook(Protocol):
    """When jobs will be done, and why they wait."""

    def why(self, waiting: WaitingJob) -> str:
        """Why a job's copies wait, in one sentence."""

    def completions(self) -> dict[int, Completion | None]:
        """When each job that was looked at will be done; None for one that no machine can make."""

    def together(self, jobs: Sequence[int], due: datetime | None, built: set[int]) -> Completion | None:
        """When several jobs will all be done, those of `built` having nothing that waits; None without a plan."""

    def circumstances(self) -> tuple[datetime, Mapping[str, object]]:
        """When the last look was, and what of the shop a promise depends on, by name."""

    def waits(self) -> tuple[int, float]:
        """How many copies wait, and how many seconds of building that is."""

    async def version(self) -> tuple[int, ...]:
        """Look again if something has changed since the last look. Differs when there is something new to see."""


TheJobOutlook = Annotated[JobOutlook, part(JobOutlook)]
