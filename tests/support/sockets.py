"""How the stand-ins' two makes of plug are asked: as in the demo shop."""

from __future__ import annotations

from chronarch.demo.shop import SOCKETS

ASKED, REPORTS = SOCKETS
