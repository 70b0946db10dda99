"""The API's routes of machines."""

from chronarch.service.machines.routes import machines, models, spools

routers = (machines.router, models.router, spools.router)
