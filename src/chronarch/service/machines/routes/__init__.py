"""The API's routes of machines."""

from chronarch.service.machines.routes import machines, models, spools

routers = (models.router, machines.router, spools.router)
