"""Where the bed's corners may be in a picture of a clear bed: the largest plain area with four straight edges.

The picture is parted by colour, coarsely and finely; of each part that could be a bed seen aslant, the four edges are
then drawn along the strongest step of brightness near them. What is found is an offer: a person looks at the grid that
follows from it.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from chronarch.core.watching.camera_pose import PoseUnclear, find_pose
from chronarch.core.watching.opencv import cv2

Floats = np.ndarray[Any, np.dtype[np.float64]]
Image = np.ndarray[Any, np.dtype[Any]]
Spot = tuple[float, float]
LOOKED_AT_PX = 480
"""The width that the picture is parted at."""
PARTS = (3, 5, 8)
"""Into so many colours."""
LEAST, MOST = 0.03, 0.75
"""Of the picture: how large a bed is in it."""
FULL = 0.9
"""Of the four-sided area: how much of it must be of the part."""
MARGIN_PX, ASIDE, CLEARLY = 2, 0.25, 12.0
"""What is so near the picture's border is cut off; how far from the middle a bed usually is, as a share of the picture;
and how far its colour must be from that around it to be clearly apart (CIE L*a*b*)."""
EDGES, TRIED = (20, 45, 90), 8
"""Steps of brightness that enclose an area, and how many of the likeliest areas are looked at closely."""
STRAIGHT_POINTS, REACH = 40, 0.02
"""How many points of each edge are looked for, and how far to either side, as a share of the picture's width."""


def offered_corners(image: Image, bed_mm: Spot) -> list[Spot] | None:
    """The corners (pixels) of what is most likely the bed, the lowest on the left first and then around it as along x,
    when the picture is not mirrored; None where nothing is like a bed. `image` is BGR."""
    scale = LOOKED_AT_PX / image.shape[1]
    small = cv2.resize(image, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
    even = cv2.medianBlur(cv2.bilateralFilter(small, 9, 18, 7), 7)  # a grid or grain on the bed is no edge of it
    colours = cv2.cvtColor(even, cv2.COLOR_BGR2LAB).astype(np.float32)
    found = []
    for part in _parts(colours):
        four = _four_sided(part)
        if four is not None:
            found.append((four[1] * _apart(colours, four[0]), four[0]))
    found.sort(key=lambda one: -one[0])
    grey = cv2.cvtColor(image, cv2.COLOR_BGR2GRAY)
    best, most = None, 0.0
    for like, rough in found[:TRIED]:
        corners = _around(_drawn(grey, rough / scale))
        like *= _possible(corners, bed_mm, (image.shape[1], image.shape[0]))
        if like > most:
            best, most = corners, like
    return None if best is None else [(round(float(u), 1), round(float(v), 1)) for u, v in best]


def _possible(corners: Floats, bed_mm: Spot, size: tuple[int, int]) -> float:
    """How well the corners can be those of the bed, 0 to 1."""
    try:
        pose = find_pose([(float(u), float(v)) for u, v in corners], bed_mm, size)
    except PoseUnclear:
        return 0.0
    return float(np.exp(-pose.error_px / (0.004 * size[0])))


def _parts(colours: Image) -> Iterator[Image]:
    """Connected areas of one colour, and areas that edges enclose."""
    flat = colours.reshape(-1, 3)
    stop = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 20, 0.2)
    cv2.setRNGSeed(1)
    for many in PARTS:
        _, labels, _ = cv2.kmeans(flat, many, None, stop, 2, cv2.KMEANS_PP_CENTERS)
        shown = labels.reshape(colours.shape[:2])
        for label in range(many):
            yield from _connected((shown == label).astype(np.uint8), 7)
    bright = colours[..., 0]
    low, high = np.percentile(bright, (1, 99))
    even = np.clip((bright - low) * (255 / max(high - low, 1.0)), 0, 255).astype(np.uint8)
    for least in EDGES:
        edges = cv2.dilate(cv2.Canny(even, least, 3 * least), np.ones((3, 3), np.uint8))
        yield from _connected((edges == 0).astype(np.uint8), 3)


def _connected(mask: Image, closed_px: int) -> Iterator[Image]:
    mask = cv2.morphologyEx(mask, cv2.MORPH_CLOSE, np.ones((closed_px, closed_px), np.uint8))
    mask = cv2.morphologyEx(mask, cv2.MORPH_OPEN, np.ones((5, 5), np.uint8))
    count, parts, stats, _ = cv2.connectedComponentsWithStats(mask, connectivity=4)
    for n in range(1, count):
        if LEAST <= stats[n, cv2.CC_STAT_AREA] / mask.size <= MOST:
            yield (parts == n).astype(np.uint8)


def _sides(corners: Floats) -> Iterator[tuple[Floats, Floats, Floats]]:
    """Each side: where it begins, where it ends, and which way is out, of length 1."""
    middle = corners.mean(0)
    for a, b in zip(corners, np.roll(corners, -1, 0), strict=True):
        outward = _line(a, b)[:2]
        yield a, b, outward * np.sign(outward @ ((a + b) / 2 - middle))


def _apart(colours: Image, corners: Floats) -> float:
    """How clearly an area is apart from what is around it, along the side where that is least clear: 0 to 1."""
    high, wide = colours.shape[:2]
    least = 1.0
    for a, b, outward in _sides(corners):
        at = a + (b - a) * np.linspace(0.1, 0.9, 24)[:, None]
        inside, outside = at - 6 * outward, at + 6 * outward
        there = np.all([(p >= 0) & (p < (wide, high)) for p in (inside, outside)], axis=(0, 2))
        if there.sum() < 8:
            continue
        u, v = inside[there].astype(int).T
        s, t = outside[there].astype(int).T
        step = np.linalg.norm(colours[v, u] - colours[t, s], axis=1)
        least = min(least, float(np.median(step)) / CLEARLY)
    return max(0.02, least)


def _four_sided(part: Image) -> tuple[Floats, float] | None:
    """The four corners of an area and how much like a bed it is; None for one with another shape."""
    outline = max(cv2.findContours(part, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)[0], key=cv2.contourArea)
    hull = cv2.convexHull(outline)
    corners = cv2.approxPolyDP(hull, 0.006 * cv2.arcLength(hull, True), True).reshape(-1, 2).astype(np.float64)
    while len(corners) > 4:
        fewer = _without_an_edge(corners)
        if fewer is None:
            return None
        corners = fewer
    if len(corners) != 4:
        return None
    four = corners
    corners = corners.astype(np.float32)
    whole = cv2.contourArea(corners)
    full = cv2.contourArea(outline) / max(whole, 1.0)
    high, wide = part.shape
    outside = sum(
        not (MARGIN_PX <= u < wide - MARGIN_PX and MARGIN_PX <= v < high - MARGIN_PX) for u, v in four.tolist()
    )
    if not FULL <= full <= 1.05 or outside > 1:
        return None
    aside = np.linalg.norm((four.mean(0) - (wide / 2, high * 0.55)) / (wide, high))
    seen = float(np.exp(-((aside / ASIDE) ** 2)))  # a camera looks at its bed
    return four, float(whole / part.size) ** 0.5 * full**4 * seen * (0.5 if outside else 1.0)


def _without_an_edge(corners: Floats) -> Floats | None:
    """The corners around the same area without the edge that adds least when its neighbours go on until they meet."""
    best, least = None, np.inf
    for k in range(len(corners)):
        a, b, c, d = (corners[(k + n) % len(corners)] for n in (-1, 0, 1, 2))
        met = _met(_line(a, b), _line(c, d))
        ahead = np.isfinite(met).all() and (met - b) @ (b - a) > 0 and (met - c) @ (c - d) > 0
        added = abs(float(np.linalg.det(np.array([c - b, met - b])))) / 2 if ahead else np.inf
        if added < least:
            others = [corners[(k + n) % len(corners)] for n in range(2, len(corners))]
            best, least = np.array([met, *others]), added
    return best


def _line(a: Floats, b: Floats) -> Floats:
    """n · p = d through two points, as (n, d)."""
    along = (b - a) / max(float(np.linalg.norm(b - a)), 1e-9)
    normal = np.array([along[1], -along[0]])
    return np.array([*normal, normal @ a])


def _drawn(grey: Image, corners: Floats) -> Floats:
    """The corners where lines meet that are drawn along the edges."""
    soft = cv2.GaussianBlur(grey, (0, 0), 1.5).astype(np.float32)
    reach = max(4.0, REACH * grey.shape[1])
    steps = np.arange(-reach, reach + 0.5, 0.5)
    lines = []
    for a, b, outward in _sides(corners):
        at = a + (b - a) * np.linspace(0.08, 0.92, STRAIGHT_POINTS)[:, None]
        spots = (at[:, None] + steps[:, None] * outward).astype(np.float32)
        values = cv2.remap(soft, spots[..., 0], spots[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        slope = np.abs(np.gradient(values, axis=1)) * np.exp(-((steps / reach) ** 2))
        edge = steps[np.argmax(slope, axis=1)]
        points: Floats = at + edge[:, None] * outward
        for _ in range(3):  # what lies beside the line is something else
            fit = cv2.fitLine(points.astype(np.float32), cv2.DIST_HUBER, 0, 0.01, 0.01).ravel()
            line = _line(fit[2:], fit[2:] + fit[:2])
            off = np.abs(points @ line[:2] - line[2])
            kept = off <= max(1.0, 2 * float(np.median(off)))
            if kept.sum() >= STRAIGHT_POINTS // 3:
                points = np.asarray(points[kept], np.float64)
        lines.append(line)
    met = np.array([_met(lines[k - 1], lines[k]) for k in range(4)])
    return met if np.abs(met - corners).max() < 2.5 * reach else corners


def _met(one: Floats, other: Floats) -> Floats:
    """Where two lines (n · p = d) meet."""
    normals = np.array([one[:2], other[:2]], np.float64)
    if abs(np.linalg.det(normals)) < 1e-6:
        return np.array([np.inf, np.inf])
    return np.asarray(np.linalg.solve(normals, np.array([one[2], other[2]], np.float64)), np.float64)


def _around(corners: Floats) -> Floats:
    """Counter-clockwise as seen, beginning with the corner that is low and left."""
    middle = corners.mean(0)
    turn = np.argsort(np.arctan2(middle[1] - corners[:, 1], corners[:, 0] - middle[0]))
    ordered = corners[turn]
    first = int(np.argmax(ordered[:, 1] - ordered[:, 0]))
    return np.roll(ordered, -first, 0)
