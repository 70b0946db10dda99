"""The API's routes of ledger."""

from chronarch.service.ledger.routes import (
    build_life,
    change_points,
    costs,
    energy,
    figures,
    history,
    intervals,
    reporting,
    reports,
    worth,
)

routers = (
    history.router, intervals.router, build_life.router, reports.router, figures.router, change_points.router,
    costs.router, worth.router, reporting.router, energy.router,
)  # fmt: skip
