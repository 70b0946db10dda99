"""Makes texts from people, files and machines safe for a terminal: control characters and characters that change the
reading direction are shown as escapes."""

from __future__ import annotations

import unicodedata

_KEPT = "\n\t"


class _Visible(dict[int, str]):
    """For `str.translate`: maps invisible control characters to their escapes."""

    def __missing__(self, code: int) -> str:
        char = chr(code)
        hidden = unicodedata.category(char) in ("Cc", "Cf", "Cs", "Zl", "Zp") and char not in _KEPT
        self[code] = char.encode("unicode_escape").decode("ascii") if hidden else char
        return self[code]


_visible = _Visible()


def plain(text: str) -> str:
    """The text with control and direction-changing characters as escapes (`\\x1b`)."""
    return text if text.isascii() and text.isprintable() else text.translate(_visible)
