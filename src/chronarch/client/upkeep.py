"""Calls about spans in which machines may not build."""

from __future__ import annotations

from chronarch.client.call import Call
from chronarch.wire.common import RequestDone
from chronarch.wire.upkeep import NewUpkeep, Upkeep


def upkeep_windows() -> Call[list[Upkeep]]:
    return Call("GET", "/api/upkeep-windows", list[Upkeep])


def add_upkeep_window(asked: NewUpkeep) -> Call[Upkeep]:
    return Call("POST", "/api/upkeep-windows", Upkeep, body=asked)


def remove_upkeep_window(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/upkeep-windows/{number}", RequestDone)
