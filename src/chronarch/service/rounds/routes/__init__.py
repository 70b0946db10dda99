"""The API's routes of rounds."""

from chronarch.service.rounds.routes import helpers, rounds, since

routers = (rounds.router, helpers.router, since.router)
