"""First contact with a machine: what it says of itself, and finding the speed of its serial line.

The answer to `M115` has words of the form `NAME:value` in one line, and `Cap:NAME:0|1` lines; firmwares share it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field

SPEEDS = (115200, 250000, 230400, 57600, 38400, 19200, 9600, 500000, 1000000, 2000000)
"""Serial speeds to try, the usual ones first, in bits a second."""

WAKE_S = 2.5
"""Many boards restart when their port is opened. This is how long that takes at most."""

_WORD = re.compile(r"\b([A-Z][A-Z0-9_]+):")
_CAPABILITY = re.compile(r"^Cap:\s*([A-Z0-9_]+)\s*:\s*([01])", re.IGNORECASE)
_OK = re.compile(r"^ok\b(\s+N\d+)?")


@dataclass(frozen=True)
class FirmwareInfo:
    """What a machine says of itself. `capabilities` has its own names, each with whether the machine has it."""

    firmware: str = ""
    words: dict[str, str] = field(default_factory=dict)
    capabilities: dict[str, bool] = field(default_factory=dict)
    numbered_oks: bool = False

    @property
    def reports_heat(self) -> bool | None:
        """Whether it reports temperatures by itself; None where it does not say."""
        return self.capabilities.get("AUTOREPORT_TEMP")

    @property
    def takes_urgent(self) -> bool | None:
        """Whether it takes M108 and M112 at once, before what is queued."""
        return self.capabilities.get("EMERGENCY_PARSER")


def read_contact(lines: Iterable[str]) -> FirmwareInfo:
    """What the answer to M115 says. Lines about something else are ignored."""
    words: dict[str, str] = {}
    capabilities: dict[str, bool] = {}
    numbered = False
    for line in lines:
        line = line.strip()
        cap = _CAPABILITY.match(line)
        ok = _OK.match(line)
        if cap:
            capabilities[cap[1].upper()] = cap[2] == "1"
        elif ok:
            numbered = numbered or ok[1] is not None
        elif "FIRMWARE_NAME:" in line:
            found = list(_WORD.finditer(line))
            for n, word in enumerate(found):
                end = found[n + 1].start() if n + 1 < len(found) else len(line)
                words[word[1]] = line[word.end() : end].strip()[:200]
    return FirmwareInfo(words.pop("FIRMWARE_NAME", ""), words, capabilities, numbered)


def sounds_right(data: bytes) -> bool:
    """Whether bytes heard at some speed are text as machines write it: at a wrong speed they are not."""
    if not data:
        return False
    plain = sum(byte in b"\r\n\t" or 32 <= byte < 127 for byte in data)
    return plain / len(data) > 0.97 and (b"\n" in data)


@dataclass
class ProbeResult:
    """What a probe of a link found out; `talk` is all that was said, with seconds since the beginning."""

    speed: int | None = None
    contact: FirmwareInfo = field(default_factory=FirmwareInfo)
    heat: str = ""
    position: str = ""
    wants_line: int | None = None
    talk: list[tuple[float, bool, str]] = field(default_factory=list)


def remarks(finding: ProbeResult) -> list[str]:
    """What a person should know of the result, in words."""
    contact = finding.contact
    out = []
    if contact.reports_heat is False:
        out.append("It does not report temperatures by itself: it is asked between lines.")
    if contact.takes_urgent is False:
        out.append("It takes M108 and M112 only in turn: an emergency stop waits for the command it is at. Use a plug.")
    if finding.wants_line is None:
        out.append("It does not say which line it wants: after its tender was started anew, a build waits for hands.")
    if not contact.firmware:
        out.append("It does not say what it is (no FIRMWARE_NAME in the answer to M115).")
    return out
