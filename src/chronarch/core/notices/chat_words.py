"""What people write to the shop in a chat, understood."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum

from chronarch.core.watching.suspicion import FailureMode

LONGEST = 300
"""Characters that are read of what somebody writes."""


class ChatVerb(StrEnum):
    """What can be asked for."""

    HELP = "help"
    STATUS = "status"
    NEXT = "what next"
    WHY = "why"
    PICTURE = "picture"
    PAUSE = "pause"
    RESUME = "resume"
    STOP = "stop"
    GOING = "going"
    FALSE_ALARM = "false alarm"
    MISSED = "missed"
    YES = "yes"


_MACHINE = r"(?P<about>\S.{0,59}?)"
_NUMBER = r"(?:job |notice |number |#)?(?P<about>\d{1,9})"
_WORDS: tuple[tuple[ChatVerb, str], ...] = (
    (ChatVerb.HELP, r"help|\?|what can you do"),
    (ChatVerb.STATUS, rf"(?:status|how (?:is|are) (?:it|things))|(?:status(?: of)?|how is) {_MACHINE}"),
    (ChatVerb.NEXT, r"(?:what(?:'s| is)? )?next"),
    (ChatVerb.WHY, rf"why (?:does )?{_NUMBER}(?: waits?)?"),
    (ChatVerb.PICTURE, rf"(?:picture|photo|show)(?: of)?(?: me)? {_MACHINE}"),
    (ChatVerb.PAUSE, rf"pause {_MACHINE}"),
    (ChatVerb.RESUME, rf"(?:resume|go on with) {_MACHINE}"),
    (ChatVerb.STOP, rf"stop {_MACHINE}"),
    (ChatVerb.GOING, rf"(?:(?:i(?:'m| am) )?going(?: to)?|take) {_NUMBER}"),
    (ChatVerb.FALSE_ALARM, rf"false alarm {_NUMBER}"),
    (ChatVerb.MISSED, rf"missed (?P<mode>{'|'.join(FailureMode)}) (?:on |at )?{_MACHINE}"),
    (ChatVerb.YES, r"yes"),
)
_TABLE = [(verb, re.compile(rf"(?:{words})[.!?]*", re.IGNORECASE)) for verb, words in _WORDS]


@dataclass(frozen=True)
class ChatAsk:
    """What somebody wants; `about` is the machine or number that it is about, empty without one. `mode` is what the
    watch has missed."""

    verb: ChatVerb
    about: str = ""
    mode: FailureMode | None = None


def understood(text: str) -> ChatAsk | None:
    """None for what means nothing here.

    >>> understood("Pause Anchor!").about
    'Anchor'
    """
    words = " ".join(text[:LONGEST].replace("\u2019", "'").split())
    for verb, pattern in _TABLE:
        found = pattern.fullmatch(words)
        if found:
            named = found.groupdict()
            mode = named.get("mode")
            return ChatAsk(verb, named.get("about") or "", FailureMode(mode.lower()) if mode else None)
    return None
