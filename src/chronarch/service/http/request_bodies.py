"""How large the body of a request may be, by route."""

from __future__ import annotations

from fastapi import HTTPException, Request
from starlette.types import Message

from chronarch.service.context import ServiceContext, part_of

USUAL = 1 << 20
"""Bytes. What people and programs say in words is far smaller."""
FORM_AROUND = 1 << 20
"""How many bytes a form may hold beside its file."""
OTHERWISE: dict[tuple[str, str], int] = {
    ("POST", "/sign-in"): 4 << 10,
    ("POST", "/sign-in/passkey/begin"): 4 << 10,
    ("POST", "/sign-in/passkey"): 64 << 10,
    ("POST", "/first-person"): 4 << 10,
    ("POST", "/invited"): 4 << 10,
    ("POST", "/help/builds/{number}/verdict"): 4 << 10,
    ("POST", "/orders/from-csv"): 2 << 20,
}
"""Routes with another limit. Routes that read the body piece by piece count it themselves."""
A_FILE = frozenset({("POST", "/drop")})
"""Routes whose body may hold one file of the largest size."""


def bounded(path: str, read_whole: bool, request: Request) -> Request:
    """The request with no more of its body than the route takes; the rest raises HTTPException (413)."""
    route = (request.method, path)
    limit = OTHERWISE.get(route, USUAL if read_whole else None)
    if route in A_FILE:
        limit = part_of(request, ServiceContext).config.largest_file + FORM_AROUND
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
