"""How the stand-ins' two makes of plug are asked."""

from __future__ import annotations

from chronarch.core.machines.plugs import PlugProfile

ASKED = PlugProfile(
    "bench socket", "http", "/sockets/{device}/status", "/sockets/{device}/lit", '{"lit": true}', '{"lit": false}',
    "/socket/lit", "/meter/now_mw", "/meter/count_kwh", method="PUT", watts_factor=1e-3, wh_factor=1e3,
)  # fmt: skip
REPORTS = PlugProfile(
    "wall socket", "mqtt", "sockets/{device}/says", "sockets/{device}/turn", "close", "open", "/state", "/w", "/wh",
    on_values=("closed",),
)  # fmt: skip
