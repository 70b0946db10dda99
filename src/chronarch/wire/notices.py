"""What people should know."""

from __future__ import annotations

from chronarch.wire.common import Time, Wire


class Notice(Wire):
    id: int
    at: Time
    machine: str | None
    build: int | None
    severity: str
    """`alarm` when a person is needed, `note` otherwise."""
    text: str
    seen: bool
