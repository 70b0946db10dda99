"""Cameras: setting them up, what they see, and trying them."""

from chronarch.service.watching.routes import camera_tests, cameras, frames, settings

routers = (cameras.router, camera_tests.router, frames.router, settings.router)
