"""The API's routes of machines."""

from chronarch.service.machines.routes import finding, heat, machines, materials, models, plugs, spools

routers = (machines.router, finding.router, heat.router, models.router, materials.router, plugs.router,
           spools.router)  # fmt: skip
