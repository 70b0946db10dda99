"""Names people give to files, machines and keys."""

from __future__ import annotations

import unicodedata

from chronarch.core.errors import BadName

LONGEST = 180
_FORBIDDEN = '/\\:*?"<>|'


def check_name(name: str) -> str:
    """A name as it may be kept: composed (NFC) and trimmed.

    Raises BadName for an empty or overlong name, separators, control or direction-changing characters,
    a leading dot, and `..`.
    """
    clean = unicodedata.normalize("NFC", name).strip()
    if not clean:
        raise BadName("The name is empty; give the file a name.")
    if len(clean) > LONGEST:
        raise BadName(f"The name has {len(clean)} characters; {LONGEST} is the most. Give it a shorter one.")
    for char in clean:
        if char in _FORBIDDEN or unicodedata.category(char) in ("Cc", "Cf", "Cs", "Co", "Zl", "Zp"):
            raise BadName(f"The name holds the character {char!r}, which is not allowed; rename the file.")
    if clean.startswith(".") or ".." in clean:
        raise BadName(f"The name {clean!r} starts with a dot or holds '..'; rename the file.")
    return clean
