"""The API's routes of machines."""

from chronarch.service.machines.routes import heat, machines, models, spools

routers = (machines.router, heat.router, models.router, spools.router)
