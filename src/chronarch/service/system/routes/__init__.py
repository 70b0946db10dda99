"""The API's routes of the service itself."""

from chronarch.service.system.routes import backups, shop

routers = (shop.router, backups.router)
