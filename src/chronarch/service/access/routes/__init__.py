"""The API's routes of access."""

from chronarch.service.access.routes import audit, invites, keys, oneself, people, roles, second_factors, sign_in

routers = (
    sign_in.router, second_factors.router, oneself.router, people.router, invites.router, roles.router, keys.router,
    audit.router,
)  # fmt: skip
