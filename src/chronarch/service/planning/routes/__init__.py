"""The API's routes of planning."""

from chronarch.service.planning.routes import plan, settings, start_next, why

routers = (plan.router, why.router, start_next.router, settings.router)
