"""Calls about the service itself."""

from __future__ import annotations

from chronarch.client.call import Call
from chronarch.wire.system import HandsWish, Health, ShopInfo


def shop() -> Call[ShopInfo]:
    return Call("GET", "/api/shop", ShopInfo)


def send_hands(away: bool) -> Call[ShopInfo]:
    """In the demo: send its simulated hands away, or have them back."""
    return Call("PUT", "/api/demo/hands", ShopInfo, body=HandsWish(away=away))


def health() -> Call[Health]:
    return Call("GET", "/api/health", Health)
