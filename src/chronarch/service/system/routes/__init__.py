"""The API's routes of the service itself."""

from chronarch.service.system.routes import backups, first_steps, setup_file, shop, storage

routers = (shop.router, backups.router, setup_file.router, first_steps.router, storage.router)
