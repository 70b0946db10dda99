"""What a browser is, in words, as it says it itself."""

from __future__ import annotations

_BROWSERS = (("Edg/", "Edge"), ("OPR/", "Opera"), ("Firefox/", "Firefox"), ("HeadlessChrome/", "Chromium"),
             ("Chromium/", "Chromium"), ("Chrome/", "Chrome"), ("Safari/", "Safari"))  # fmt: skip
"""The word in the User-Agent header, the first that is there, and what it means."""
_SYSTEMS = (("iPhone", "an iPhone"), ("iPad", "an iPad"), ("Android", "Android"), ("Windows", "Windows"),
            ("Mac OS X", "a Mac"), ("CrOS", "ChromeOS"), ("Linux", "Linux"))  # fmt: skip


def device_words(agent: str) -> str:
    """For example `Firefox on Linux`; what it calls itself where we know it by nothing else."""
    browser = next((name for word, name in _BROWSERS if word in agent), "")
    system = next((name for word, name in _SYSTEMS if word in agent), "")
    if browser and system:
        return f"{browser} on {system}"
    return browser or system or agent.split(" ")[0].split("/")[0][:40]
