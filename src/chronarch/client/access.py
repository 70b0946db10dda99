"""Calls about oneself, people and keys."""

from __future__ import annotations

from chronarch.client.call import Call, at
from chronarch.wire import access as wp
from chronarch.wire.common import RequestDone


def me() -> Call[wp.Me]:
    return Call("GET", "/api/me", wp.Me)


def first_standing() -> Call[wp.FirstStanding]:
    """Whether the shop waits for its first person; needs no key."""
    return Call("GET", "/api/first-person", wp.FirstStanding)


def first_person(code: str, login: str, name: str, password: str) -> Call[wp.Me]:
    """Let the first person in, with the code that the service's computer shows; needs no key."""
    asked = wp.FirstPerson(code=code, login=login, name=name, password=password)
    return Call("POST", "/api/first-person", wp.Me, body=asked)


def people() -> Call[list[wp.PersonShown]]:
    """Everybody who can sign in."""
    return Call("GET", "/api/people", list[wp.PersonShown])


def all_of_person(login: str) -> Call[bytes]:
    """All that is kept of a person, as JSON Lines."""
    return Call("GET", at("people", login, "export"), bytes)


def remove_person(login: str) -> Call[RequestDone]:
    """Remove a person; what they did stays, signed by somebody who left."""
    return Call("DELETE", at("people", login), RequestDone)


def keys() -> Call[list[wp.Key]]:
    return Call("GET", "/api/keys", list[wp.Key])


def make_key(name: str, scope: wp.Scope = wp.Scope.OPERATE) -> Call[wp.CreatedKey]:
    return Call("POST", "/api/keys", wp.CreatedKey, body=wp.NewKey(name=name, scope=scope))


def revoke_key(key: int) -> Call[wp.Key]:
    return Call("DELETE", f"/api/keys/{key}", wp.Key)
