"""Calls about oneself and keys."""

from __future__ import annotations

from chronarch.client.call import Call
from chronarch.wire import access as wp


def me() -> Call[wp.Me]:
    return Call("GET", "/api/me", wp.Me)


def keys() -> Call[list[wp.Key]]:
    return Call("GET", "/api/keys", list[wp.Key])


def make_key(name: str, scope: wp.Scope = wp.Scope.OPERATE) -> Call[wp.CreatedKey]:
    return Call("POST", "/api/keys", wp.CreatedKey, body=wp.NewKey(name=name, scope=scope))


def revoke_key(key: int) -> Call[wp.Key]:
    return Call("DELETE", f"/api/keys/{key}", wp.Key)
