"""Cameras: setting them up, what they see, and trying them; films."""

from chronarch.service.watching.routes import camera_tests, cameras, film_rules, films, frames, head_away, settings

routers = (
    cameras.router,
    camera_tests.router,
    frames.router,
    films.router,
    film_rules.router,
    head_away.router,
    settings.router,
)
