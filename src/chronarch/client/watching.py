"""Calls about what cameras see."""

from __future__ import annotations

from chronarch.client.call import Call, at


def frame(name: str) -> Call[bytes]:
    return Call("GET", at("machines", name, "frame"), bytes)
