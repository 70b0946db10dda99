"""Names that people give to files, machines and keys."""

from __future__ import annotations

import unicodedata

from chronarch.core.errors import BadName

LONGEST = 180
_FORBIDDEN = '/\\:*?"<>|'


def check_name(name: str) -> str:
    """A name as it may be kept: composed (NFC) and trimmed.

    Raises BadName for an empty or overlong name, separators, control or direction-changing characters, a leading dot,
    and `..`.
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


SLICED = (".gcode", ".gco", ".g", ".nc", ".gcode.gz", ".gcode.zst", ".gco.gz", ".g.gz")
"""How the names of sliced files end, plain and packed."""


def is_sliced(name: str) -> bool:
    """Whether a file's name says that it is sliced."""
    return name.lower().endswith(SLICED)


def as_number(text: str) -> int | None:
    """The number of a record that a text means; None when it is a name."""
    return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else None


DEEPEST = 8


def check_folder(path: str) -> str:
    """A folder's path as it may be kept: names joined by `/`; empty is the library itself. Raises BadName."""
    names = [check_name(name) for name in path.split("/") if name.strip()]
    if len(names) > DEEPEST:
        raise BadName(f"The folder lies {len(names)} deep; {DEEPEST} is the most.")
    clean = "/".join(names)
    if len(clean) > 300:
        raise BadName("The folder's path has over 300 characters; choose shorter names.")
    return clean
