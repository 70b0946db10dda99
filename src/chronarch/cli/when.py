"""Times as people type them: `2026-10-23 12:00`, `23.10. 12:00`, `fri 12:00`, `friday noon`, `17:00`."""

from __future__ import annotations

import re
from datetime import datetime, timedelta

import click

from chronarch.cli.context import Service
from chronarch.client import requests

DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
WORDS = {"noon": "12:00", "midnight": "00:00", "morning": "08:00", "evening": "17:00"}
FORMATS = ("%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%d")


def parse_when(text: str, now: datetime) -> datetime:
    """A time in the reader's own zone; a weekday is the next one from `now` on, a time alone the next such time.
    Raises click.BadParameter."""
    text = text.strip().lower()
    local = now.astimezone()
    for form in FORMATS:
        try:
            return datetime.strptime(text.upper() if "T" in form else text, form).astimezone()
        except ValueError:
            continue
    words = text.split()
    day = next((n for n, d in enumerate(DAYS) if words and len(words[0]) >= 3 and d.startswith(words[0])), None)
    if day is not None or (words and words[0] in ("today", "tomorrow")):
        clock = words[1] if len(words) > 1 else "17:00"
        ahead = (day - local.weekday()) % 7 if day is not None else int(words[0] == "tomorrow")
        at = _at(local + timedelta(days=ahead), clock, text)
        return at if at > local or day is None else at + timedelta(days=7)
    at = _at(local, words[0] if words else "", text)
    return at if at > local else at + timedelta(days=1)


def _at(day: datetime, clock: str, text: str) -> datetime:
    found = re.fullmatch(r"(\d{1,2})(?::(\d{2}))?", WORDS.get(clock, clock))
    if not found or int(found[1]) > 23 or int(found[2] or 0) > 59:
        raise click.BadParameter(f"{text!r} is no time; write it like 2026-10-23 12:00, fri 12:00 or 17:00.")
    return day.replace(hour=int(found[1]), minute=int(found[2] or 0), second=0, microsecond=0)


def shop_time(service: Service, text: str | None) -> datetime | None:
    """A time that was typed, on the shop's clock."""
    return parse_when(text, service.do(requests.shop()).now) if text else None
