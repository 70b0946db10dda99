"""How two texts differ, by lines: what begins and ends alike is cut away, the rest is matched line by line."""

from __future__ import annotations

import difflib

from chronarch.core.gcode.splice import LineChange

MOST_CHANGES = 200
MATCH_UP_TO = 4000
WINDOW = 400


def differences(earlier: bytes, later: bytes, most: int = MOST_CHANGES) -> tuple[list[LineChange], bool]:
    """The first changes from one text to another, each with its line in the later one, and whether there are more.

    Long texts are walked in windows: after a change, the next place where three lines agree again goes on.
    """
    a, b = earlier.splitlines(), later.splitlines()
    found: list[LineChange] = []
    i = j = 0
    while i < len(a) or j < len(b):
        while i < len(a) and j < len(b) and a[i] == b[j]:
            i += 1
            j += 1
        if i >= len(a) and j >= len(b):
            break
        if len(found) == most:
            return found, True
        di, dj = _agree_again(a, b, i, j)
        found.append(LineChange(j + 1, _shown(a[i:di]), _shown(b[j:dj])))
        i, j = di, dj
    return found, False


def _agree_again(a: list[bytes], b: list[bytes], i: int, j: int) -> tuple[int, int]:
    """Where both go on alike after they parted at i and j: the nearest run of lines that both have."""
    window = WINDOW
    while True:
        x, y = a[i : i + window], b[j : j + window]
        matcher = difflib.SequenceMatcher(None, x, y, autojunk=False)
        run = next((m for m in matcher.get_matching_blocks() if m.size >= 3 or m.size == min(len(x), len(y)) > 0), None)
        if run is not None and run.size:
            return i + run.a, j + run.b
        if len(x) < window and len(y) < window:
            return len(a), len(b)
        if window >= MATCH_UP_TO:
            return _far(a, b, i, j)
        window *= 4


def _far(a: list[bytes], b: list[bytes], i: int, j: int) -> tuple[int, int]:
    """A stretch too long to match line by line: the next three lines of one that the other has somewhere."""
    where: dict[tuple[bytes, ...], int] = {}
    for k in range(j, len(b) - 2):
        where.setdefault(tuple(b[k : k + 3]), k)
    for k in range(i, len(a) - 2):
        found = where.get(tuple(a[k : k + 3]))
        if found is not None:
            return k, found
    return len(a), len(b)


def _shown(lines: list[bytes]) -> str:
    text = b"\n".join(lines[:12]).decode("utf-8", "replace")[:600]
    return f"{text}\n… {len(lines) - 12} more lines" if len(lines) > 12 else text
