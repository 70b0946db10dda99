"""What the service is."""

from __future__ import annotations

from chronarch.wire.common import Time, Wire


class ShopInfo(Wire):
    """The name of the shop and its time."""

    name: str
    now: Time
    rate: float
    """Shop seconds in one real second; 1 in a real shop."""
