"""How large a request's body may be, by route; and that nothing of it is read before the caller is known."""

from __future__ import annotations

from collections.abc import Iterator

from fastapi import HTTPException, Request
from fastapi.dependencies.models import Dependant
from starlette.types import Message

from chronarch.service.access import Needs
from chronarch.service.shop import shop_of

USUAL = 1 << 20
"""Bytes. What people and programs say in words is far smaller."""
FORM_AROUND = 1 << 20
"""What a form may hold beside its file."""
OTHERWISE: dict[tuple[str, str], int] = {
    ("POST", "/sign-in"): 4 << 10,
    ("POST", "/help/builds/{number}/verdict"): 4 << 10,
    ("POST", "/orders/from-csv"): 2 << 20,
}
"""Routes with another bound. Routes that take the body piece by piece count it themselves."""
A_FILE = frozenset({("POST", "/drop")})
"""Routes whose body may hold one file of the largest size."""


def _all(dependant: Dependant) -> Iterator[Dependant]:
    for inner in dependant.dependencies:
        yield inner
        yield from _all(inner)


def gate_of(dependant: Dependant) -> Needs | None:
    """What a route lets in; None where it is open to everybody."""
    return next((d.call for d in _all(dependant) if isinstance(d.call, Needs)), None)


async def admit(path: str, gate: Needs | None, read_whole: bool, request: Request) -> Request:
    """Let a request that brings a body in: first the caller, then as much of the body as the route takes. Raises
    Refused (401, 403) and HTTPException (413)."""
    if gate is not None:
        request.state.who = await gate(request)
    route = (request.method, path)
    limit = OTHERWISE.get(route, USUAL if read_whole else None)
    if route in A_FILE:
        limit = shop_of(request).settings.largest_file + FORM_AROUND
    if limit is None:
        return request
    most = limit
    too_large = HTTPException(413, f"The body is larger than the {most:,} bytes that this takes; send less at once.")
    announced = request.headers.get("content-length", "0")
    if announced.isdigit() and int(announced) > most:
        raise too_large
    came = 0

    async def receive() -> Message:
        nonlocal came
        message = await request.receive()
        came += len(message.get("body", b""))
        if came > most:
            raise too_large
        return message

    return Request(request.scope, receive)
