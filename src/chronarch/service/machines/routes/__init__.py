"""The API's routes of machines."""

from chronarch.service.machines.routes import finding, heat, machines, models, plugs, spools

routers = (machines.router, finding.router, heat.router, models.router, plugs.router, spools.router)
