"""The API's routes of notices."""

from chronarch.service.notices.routes import acting, channels, notices, rules, settings

routers = (notices.router, rules.router, channels.router, settings.router, acting.router)
