"""The API's routes of ledger."""

from chronarch.service.ledger.routes import intervals, reports

routers = (intervals.router, reports.router)
