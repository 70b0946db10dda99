"""Cameras: setting them up, what they see, and trying them; films; the watch."""

from chronarch.service.watching.routes import (
    bed_views,
    camera_tests,
    cameras,
    film_rules,
    films,
    frames,
    head_away,
    settings,
    suspicions,
    watch_rules,
)

routers = (
    cameras.router,
    camera_tests.router,
    frames.router,
    films.router,
    film_rules.router,
    head_away.router,
    settings.router,
    bed_views.router,
    suspicions.router,
    watch_rules.router,
)
