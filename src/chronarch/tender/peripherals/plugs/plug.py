"""What every way to a plug has in common."""

from __future__ import annotations

from abc import ABC, abstractmethod

from chronarch.core.machines.plug_address import PlugAddress, parse_plug_address
from chronarch.core.machines.plugs import DEVICE, PlugProfile, PlugReport
from chronarch.wire.machines.power import PlugSetup

ANSWER_S = 5.0


class PlugConnection(ABC):
    """One plug. `read` and `turn` are asked one at a time; both raise PlugFault."""

    def __init__(self, setup: PlugSetup, keep_away: tuple[str, int]) -> None:
        self.profile: PlugProfile = setup.profile
        self.address: PlugAddress = parse_plug_address(setup.access.address)
        self.login = setup.access.login or self.address.login
        self.password = setup.access.password or self.address.password
        self.keep_away = keep_away

    def fill(self, text: str, *, on: bool | None = None) -> str:
        """A path, topic or payload of the profile, for this plug."""
        state = "" if on is None else "on" if on else "off"
        return text.replace(DEVICE, self.address.device).replace("{state}", state)

    @abstractmethod
    async def read(self) -> PlugReport:
        """What it says now."""

    @abstractmethod
    async def turn(self, on: bool) -> None:
        """Turn it. Whether it did is seen from what it says afterwards."""

    @abstractmethod
    async def close(self) -> None:
        """Leave it alone."""
