"""The API's routes of machines."""

from chronarch.service.machines.routes import heat, machines, models, plugs, spools

routers = (machines.router, heat.router, models.router, plugs.router, spools.router)
