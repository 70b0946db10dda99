"""Calls about the service itself."""

from __future__ import annotations

from chronarch.client.call import Call
from chronarch.wire.system import Health, ShopInfo


def shop() -> Call[ShopInfo]:
    return Call("GET", "/api/shop", ShopInfo)


def health() -> Call[Health]:
    return Call("GET", "/api/health", Health)
