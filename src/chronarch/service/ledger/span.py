"""The span of time that a report is about."""

from __future__ import annotations

from datetime import datetime, timedelta

from chronarch.service.context import ServiceContext
from chronarch.service.problems import ApiProblem


def span(
    context: ServiceContext, begin: datetime | None, end: datetime | None, usual: timedelta
) -> tuple[datetime, datetime]:
    """A span of shop time that is asked for. Raises ApiProblem (422) when it ends before it begins."""
    end = end or context.clock.now()
    begin = begin or end - usual
    if begin >= end:
        raise ApiProblem(422, f"The span ends ({end:%Y-%m-%d %H:%M}) before it begins ({begin:%Y-%m-%d %H:%M}).")
    return begin, end
