"""Calls about notices."""

from __future__ import annotations

from chronarch.client.call import Call, some
from chronarch.wire.common import RequestDone
from chronarch.wire.notices import Notice


def notices(seen: bool = False) -> Call[list[Notice]]:
    return Call("GET", "/api/notices", list[Notice], params=some(seen=seen))


def all_seen(up_to: int) -> Call[RequestDone]:
    return Call("POST", "/api/notices/seen", RequestDone, params=some(up_to=up_to))
