"""What a browser comes with, and the cookie by which it stays signed in."""

from __future__ import annotations

from fastapi import Request, Response

from chronarch.service.access.sign_in import Device, lasts
from chronarch.service.context import ServiceContext
from chronarch.service.principals import COOKIE


def device_of(request: Request, trusted: bool = False) -> Device:
    """What a request comes from."""
    address = request.client.host if request.client else ""
    return Device(address, request.headers.get("user-agent", "")[:400], trusted)


def let_stay(response: Response, context: ServiceContext, token: str, trusted: bool) -> None:
    """Give the browser the cookie of a session."""
    age = int(lasts(context, trusted).total_seconds())
    response.set_cookie(COOKIE, token, max_age=age, httponly=True, samesite="strict")
