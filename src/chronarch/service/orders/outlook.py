"""What orders and jobs need to know of the future. The planner answers; orders do not know how."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Annotated, Protocol

from sqlalchemy.ext.asyncio import AsyncSession

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

    async def renew(self, db: AsyncSession) -> object:
        """Look again: orders or jobs have just changed."""


TheJobOutlook = Annotated[JobOutlook, part(JobOutlook)]
