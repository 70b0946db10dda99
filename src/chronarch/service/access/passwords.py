"""Which passwords are taken: none that is common, and none that is guessed soon."""

from __future__ import annotations

from collections.abc import Sequence

from zxcvbn import zxcvbn

from chronarch.core.errors import BadName

LEAST = 8
STRONG_ENOUGH = 3
"""Of zxcvbn's scores 0 to 4: it takes more than 10^8 guesses."""
LOOKED_AT = 72
"""So many characters of a password are looked at; looking takes much longer the more there are."""


class WeakPassword(BadName):
    """A password that is too short, common, or soon guessed."""


def check_password(password: str, own: Sequence[str] = ()) -> None:
    """Refuse a weak password; `own` is what everybody knows of its person. Raises WeakPassword. Takes a moment."""
    if len(password) < LEAST:
        raise WeakPassword(f"A password needs at least {LEAST} characters.")
    found = zxcvbn(password[:LOOKED_AT], user_inputs=[word for word in own if word])
    if found["score"] >= STRONG_ENOUGH:
        return
    why = found["feedback"]["warning"].rstrip(".") or "This password is soon guessed"
    raise WeakPassword(f"{why}. Take a longer one, for example four words that have nothing to do with each other.")
