"""The API's routes of control."""

from chronarch.service.control.routes import builds, logs, machines

routers = (machines.router, builds.router, logs.router)
