"""The API's routes of upkeep."""

from chronarch.service.upkeep.routes import done, fleet_state, parts, tasks, windows

routers = (tasks.router, done.router, parts.router, windows.router, fleet_state.router)
