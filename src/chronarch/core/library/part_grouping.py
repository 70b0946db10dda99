"""Which files make the same part: by their names without what distinguishes variants, and by the size of what they
lay."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

_NOISE = re.compile(
    r"""^(?:
        \d+(?:[.,]\d+)?(?:mm|h|m|min|g)? |      # numbers and sizes: 0.4, 0.2mm, 2h
        x\d+ | \d+x | r\d+ | v\d+ | rev\d+ |    # quantities and versions
        pla|petg|abs|asa|tpu|pa|pc|pla\+ |      # materials
        nozzle|layer|gcode|fine|draft|copy|of
    )$""",
    re.X | re.I,
)


@dataclass(frozen=True)
class GroupableFile:
    """What grouping needs of a file: the height of what it lays (mm), and the size of one object (mm)."""

    file: int
    name: str
    height_mm: float
    footprint_mm: tuple[float, float] | None
    part: int | None = None


@dataclass(frozen=True)
class PartSuggestion:
    """Files that seem to make the same thing."""

    name: str
    files: tuple[int, ...]
    why: str
    part: int | None = None


def stem(name: str, models: Sequence[str] = ()) -> str:
    """A file's name without ending, model, material, nozzle, quantity and version."""
    bare = name.rsplit(".", 1)[0] if "." in name else name
    for model in models:
        bare = re.sub(re.escape(model).replace(r"\ ", r"[\s_-]*"), " ", bare, flags=re.I)
    words = [word for word in re.split(r"[\s_\-()+]+", bare.lower()) if word]
    kept = [word for n, word in enumerate(words) if n == 0 or not _NOISE.match(word)]
    return "-".join(kept)


def families(files: Sequence[GroupableFile], models: Sequence[str] = ()) -> list[PartSuggestion]:
    """Suggestions: files with the same stem and a similar height. Files that belong to a part already only attract
    others to it."""
    by_stem: dict[str, list[GroupableFile]] = {}
    for file in files:
        by_stem.setdefault(stem(file.name, models), []).append(file)
    found = []
    for name, kin in sorted(by_stem.items()):
        free = [k for k in kin if k.part is None]
        if not name or not free or len(kin) < 2:
            continue
        tallest, lowest = max(k.height_mm for k in kin), min(k.height_mm for k in kin)
        sizes = [k.footprint_mm for k in kin if k.footprint_mm]
        if tallest - lowest > max(0.6, 0.02 * tallest):
            continue
        why = f"their names begin with {name!r} and all are {tallest:.1f} mm high"
        if len(sizes) == len(kin) and all(_alike(s, sizes[0]) for s in sizes):
            why += f", {sizes[0][0]:.0f} x {sizes[0][1]:.0f} mm"
        part = next((k.part for k in kin if k.part is not None), None)
        found.append(PartSuggestion(name, tuple(k.file for k in free), why, part))
    return found


def _alike(a: tuple[float, float], b: tuple[float, float]) -> bool:
    return abs(max(a) - max(b)) < 2 and abs(min(a) - min(b)) < 2
