"""The API's routes of ledger."""

from chronarch.service.ledger.routes import energy, intervals, reports

routers = (intervals.router, reports.router, energy.router)
