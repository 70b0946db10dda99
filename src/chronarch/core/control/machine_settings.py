"""What a machine has stored: reading the settings that it prints on being asked (M503, as many firmwares have it).

Each line is a command that would set what it says, like `M92 X80.00 Y80.00`, perhaps after `echo:` and before a remark
behind a semicolon. A value's name is the command with the letter: `M92 X`. Where a command is told several times, one
time for each tool (T) or preset (S), the name has which: `M145 S0 H`.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable

from chronarch.core.gcode.vocabulary import LASTING_SETTINGS

MOST = 300
_LINE = re.compile(r"^(?:echo:)?\s*([GM]\d{1,4}(?:\.\d)?)((?:\s+[A-Z][-+]?\d*\.?\d+)+)\s*(?:;.*)?$", re.IGNORECASE)
_WORD = re.compile(r"([A-Z])([-+]?\d*\.?\d+)", re.IGNORECASE)
_WHICH = "TS"
SAYS = {
    **LASTING_SETTINGS,
    "M145": "sets what is heated for a material",
    "M201": "sets the greatest acceleration",
    "M203": "sets the greatest speed",
    "M204": "sets the usual acceleration",
    "M205": "sets how corners are taken",
    "M420": "sets the bed's levelling",
    "M900": "sets the pressure advance",
    "M906": "sets the motors' current",
}


def read_settings(lines: Iterable[str]) -> dict[str, float]:
    """The values by name; empty where nothing was told. Lines about something else are passed over."""
    told = [(found[1].upper(), _WORD.findall(found[2])) for line in lines if (found := _LINE.match(line.strip()))]
    times = Counter(command for command, _ in told)
    values: dict[str, float] = {}
    for command, words in told:
        which, *rest = words
        if times[command] > 1 and which[0].upper() in _WHICH and rest:
            command, words = f"{command} {which[0].upper()}{which[1]}", rest
        for letter, value in words:
            if len(values) < MOST:
                values[f"{command} {letter.upper()}"] = float(value)
    return values


def meaning(name: str) -> str:
    """What a setting is about, after its name; empty where that is not known.

    >>> meaning("M92 X")
    'sets the steps per millimetre'
    """
    return SAYS.get(name.split()[0], "")
