"""Where in its build a machine was when a picture was taken: of the places that were told, those before and after."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from datetime import datetime

from chronarch.core.watching.frame_keeping import KeptPlace

REMEMBERED = 64


@dataclass
class BuildPlaces:
    """Places of one machine, each with its shop time, in order."""

    newest: KeptPlace = field(default_factory=KeptPlace)
    _told: deque[tuple[datetime, KeptPlace]] = field(default_factory=lambda: deque(maxlen=REMEMBERED))

    def tell(self, place: KeptPlace, at: datetime | None) -> None:
        """Where it is, and since when that is known; a place without a time holds from now on whatever the time."""
        self.newest = place
        if at is None:
            self._told.clear()
        elif not self._told or at >= self._told[-1][0]:
            self._told.append((at, place))

    @property
    def known_to(self) -> datetime | None:
        """Up to when it is known where the machine was; None when that holds whatever the time."""
        return self._told[-1][0] if self._told else None

    def when(self, at: datetime) -> KeptPlace:
        """Where it was at a time. Between two places of the same build that is in between, as time passed; a picture
        that comes late does not show what has been laid since."""
        after: tuple[datetime, KeptPlace] | None = None
        for moment, place in reversed(self._told):
            if moment > at:
                after = moment, place
                continue
            if after is None or after[1].build != place.build or after[1].command < place.command:
                return place
            share = (at - moment) / (after[0] - moment)
            command = place.command + int(share * (after[1].command - place.command))
            return KeptPlace(place.build, place.layer, command)
        return after[1] if after else self.newest
