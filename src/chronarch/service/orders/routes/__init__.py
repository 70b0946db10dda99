"""The API's routes of orders."""

from chronarch.service.orders.routes import builds, jobs, orders, queue, stock

routers = (jobs.router, queue.router, orders.router, stock.router, builds.router)
