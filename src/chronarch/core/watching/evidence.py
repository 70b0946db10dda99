"""What one frame says of each object: what is gone, what is too much, what did not grow, what stands elsewhere.

All is measured against the clear bed and against this build's own frames before, so that what a camera always gets a
little wrong (a glossy clip, a corner clicked beside the bed) is not taken for news.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from chronarch.core.watching.appearance import Compared, Lit
from chronarch.core.watching.camera_pose import Floats
from chronarch.core.watching.expected_scene import BEAM, OTHER, ExpectedScene, Sight
from chronarch.core.watching.opencv import cv2

Image = np.ndarray[Any, np.dtype[Any]]

IS_MATERIAL, IS_BARE, UNLIKE = 0.8, -0.4, 7.0
KNOWN, SURE = 2.0, 0.6
"""A pixel is known after so many frames, and sure when it usually was material by so much."""
MARGIN_PX = 2
"""How far beside its place material may show."""
LEAST_PX = 5
"""A smaller spot is noise."""
NEW_LAYERS = 14
"""Of how many of the last layers growth is looked at."""
REACH_MM = 16.0
"""How far a layer shift is looked for."""
BLOB_MM = 13.0
MOST_MATCHED = 8
"""Of so many objects, the ones best seen, it is measured where they stand."""
OPEN_SHARE = 0.4
"""Of what is around an object's top, so much must not be its own lower layers."""
REMEMBERED = 20.0
CLIP, FRESH = 2.0, 0.6
"""In the memory no frame says more than this."""
FOREIGN, SUDDEN = 12.0, 0.5
TWICE, MANY = 2, 9
"""Sightings of a pixel until it counts."""
STRANGE = 0.35
HIDING = (255, BEAM)
HEAD_PX, HEAD_FRAMES = 300, 8
"""From so many pixels of the head in so many frames it is known what it looks like."""


@dataclass(frozen=True)
class ObjectEvidence:
    """What is seen of one object (its number counts from 1). Shares are 0 to 1, areas mm² of the bed's plane.

    `lost` and `lost_high` are the shares that now look like the bare bed of what used to be material, of all and of its
    upper half; `extra_mm2` is material near it where none should be, `spread_mm` how far that reaches, `rough` how
    ragged it is (1 for a disc), `push_mm` where it lies from its middle; `stunted` is by how much more than usual of
    what was laid last is bare; `fits` by how much more than usual its top fits better beside its place than in it; `px`
    how many pixels were judged."""

    number: int
    px: int
    lost: float
    lost_high: float
    extra_mm2: float
    spread_mm: float
    stunted: float
    stunted_px: int
    fits: float
    rough: float
    push_mm: tuple[float, float]
    tall: float
    """Its height as a share of the width of its footprint."""
    place: tuple[int, int, int, int] | None
    """Where in the picture the trouble is: left, top, width, height, pixels."""


@dataclass(frozen=True)
class FrameEvidence:
    """What one frame says of a build. `blob_mm2` is material at the nozzle beyond what is usual; `tip` where the nozzle
    is (left, top, width, height, pixels); `stray_mm2` material that is near no object, or all that lies on a bed before
    a start."""

    objects: tuple[ObjectEvidence, ...]
    blob_mm2: float
    tip: tuple[int, int, int, int] | None = None
    stray_mm2: float = 0.0
    faint: bool = False
    """Whether the material has nearly the bed's colour."""


@dataclass
class Memory:
    """What was seen in the frames before, per pixel and per object. What the head hides stays as it was seen last, so
    that all objects are seen in the end, however it stands in the way."""

    shape: tuple[int, int]
    usual: Image = field(init=False)
    """The mean of how much each pixel looked like material since it should be."""
    frames: Image = field(init=False)
    """From how many frames that is."""
    strange: Image = field(init=False)
    """The share of frames in which material was seen where it should not be, since the pixel was seen first."""
    last: Image = field(init=False)
    """How much each pixel looked like material when it was seen last."""
    extra: Image = field(init=False)
    """In how many sightings in a row material was seen where none should be, up to `MANY`."""
    through: Image = field(init=False)
    """The same where the head may be."""
    gone: Image = field(init=False)
    """In how many sightings in a row the bare bed was seen where material should be."""
    fits: dict[int, tuple[float, float]] = field(default_factory=dict)
    """By object: by how much better its top fits elsewhere, and from how many frames."""
    stunted: dict[int, tuple[float, float]] = field(default_factory=dict)
    """By object: the share of what was laid last that looks bare, and from how many frames."""
    blob_mm2: float = 0.0
    blob_frames: float = 0.0
    foreign: deque[tuple[float, float]] = field(default_factory=lambda: deque(maxlen=30))
    """What was in the way in the frames before, by the two measures of `in_the_way`."""
    head_px: dict[int, deque[int]] = field(default_factory=lambda: {k: deque(maxlen=40) for k in HIDING})
    """How many pixels of what the head may hide looked like material, in the frames before."""

    def plain(self, what: int) -> bool:
        """Whether no part of the head, or of the beam, looks like the material: then it is seen in front of that."""
        seen = self.head_px[what]
        return len(seen) >= HEAD_FRAMES and float(np.quantile(seen, 0.9)) <= LEAST_PX

    def __post_init__(self) -> None:
        for name in ("usual", "frames", "strange", "last"):
            setattr(self, name, np.zeros(self.shape, np.float32))
        for name in ("extra", "through", "gone"):
            setattr(self, name, np.zeros(self.shape, np.uint8))


def in_the_way(scene: ExpectedScene, seen: Compared, hidden: Image, memory: Memory) -> float:
    """The share of the free bed on which more than usual is seen that is neither bed nor material; or, counted less,
    that is not bed and was not there in the frame before: so much at once is a hand and no tangle."""
    free = (scene.zone() > 0) & (hidden == 0) & (scene.first == 0)
    count = max(1, int(free.sum()))
    now = (
        int((free & (seen.bare > FOREIGN) & (seen.material < IS_MATERIAL)).sum()) / count,
        SUDDEN * int((free & (seen.bare > UNLIKE) & (memory.extra == 0)).sum()) / count,
    )
    usual = np.median(memory.foreign, 0) if memory.foreign else np.zeros(2)
    memory.foreign.append(now)
    return float(np.max(np.array(now) - usual))


def look(
    scene: ExpectedScene, seen: Compared, hidden: Image, taken: int, memory: Memory
) -> tuple[FrameEvidence, _Update]:
    """Measure one frame; `hidden` is what the head may hide (`ExpectedScene.head`). Returns the evidence, and what
    `remember` takes in."""
    there = scene.first > 0
    kernel = np.ones((2 * MARGIN_PX + 1, 2 * MARGIN_PX + 1), np.uint8)
    allowed = cv2.dilate(there.astype(np.uint8), kernel) > 0
    outside = (scene.zone() > 0) & ~allowed
    done = there & (scene.first < scene.layer) & (scene.owner > 0) & (scene.owner < OTHER)
    inner = cv2.erode(done.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    head = hidden > 0
    trusted = np.isin(hidden, [k for k in HIDING if memory.plain(k)])
    through = _sight(memory, seen, hidden, trusted, outside, inner)

    many = (memory.extra >= TWICE) | (trusted & (memory.through >= TWICE))
    extra = (many & outside & (memory.strange < STRANGE)).astype(np.uint8)
    extra = cv2.morphologyEx(extra, cv2.MORPH_OPEN, np.ones((2, 2), np.uint8))
    known = inner & (memory.frames >= KNOWN)
    lost = known & (memory.usual > SURE) & (memory.gone >= TWICE)
    fresh = inner & (scene.first > scene.layer - NEW_LAYERS) & (scene.first < scene.layer - 1) & (memory.frames >= 1)
    spots = _spots(extra, scene)
    fits = _fits(scene, memory)
    objects = tuple(
        found for number in range(1, scene.objects + 1)
        if (found := _object(number, scene, memory, known, lost, fresh, spots, fits)) is not None
    )  # fmt: skip
    blob, tip = _blob(scene, seen, taken, allowed)
    news = max(0.0, blob - memory.blob_mm2) if memory.blob_frames >= KNOWN else 0.0
    evidence = FrameEvidence(
        objects, news, tip, sum(s.mm2 for s in spots if not s.near),
    )  # fmt: skip
    return evidence, _Update(
        seen.material,
        inner & ~head,
        outside & ~head,
        fits,
        blob,
        through,
        {o.number: o.stunted for o in objects if o.stunted_px >= LEAST_PX},
    )


def _sight(
    memory: Memory, seen: Compared, hidden: Image, trusted: Image, outside: Image, inner: Image
) -> dict[int, int]:
    """Take in what each visible pixel shows now. Returns how many pixels of what the head, and its beam, may hide look
    like material, where enough of that is over the bed."""
    visible = (hidden == 0) | (trusted & (seen.material > IS_MATERIAL))
    material = np.clip(seen.material, -CLIP, CLIP)
    last = memory.last[visible]
    memory.last[visible] = last + FRESH * (material[visible] - last)
    strange = outside & (seen.material > IS_MATERIAL) & (seen.bare > UNLIKE)
    at_head = strange & (hidden > 0)
    visible = hidden == 0
    for count, now, where in (
        (memory.extra, strange, visible),
        (memory.through, at_head, outside),
        (memory.gone, inner & (seen.material < IS_BARE), visible),
    ):
        count[where] = np.where(now[where], np.minimum(count[where] + 1, MANY), 0)
    there = {k: outside & (hidden == k) for k in HIDING}
    return {k: int((strange & mask).sum()) for k, mask in there.items() if mask.sum() >= HEAD_PX}


def _object(
    number: int, scene: ExpectedScene, memory: Memory, known: Image, lost: Image, fresh: Image, spots: list[_Spot],
    fits: dict[int, float],
) -> ObjectEvidence | None:  # fmt: skip
    whole = scene.owner == number
    x, y, wide, high = box = cv2.boundingRect(whole.astype(np.uint8))
    if not wide:
        return None
    part = (slice(y, y + high), slice(x, x + wide))
    mine = whole[part]
    sure = mine & known[part] & (memory.usual[part] > SURE)
    gone = mine & lost[part]
    strip = mine & fresh[part]
    shown = memory.last[part][strip]
    weight = float(np.abs(shown).sum())
    stunted = float(-np.minimum(shown, 0).sum()) / weight if weight > 1 else 0.0
    near = [spot for spot in spots if spot.near == number]
    usual_fit = memory.fits.get(number, (0.0, 0.0))[0]
    boxes: list[Any] = [spot.box for spot in near if spot.mm2 > 8]
    for mask, least in ((gone, 20), (strip & (memory.last[part] < 0), 12)):
        if mask.sum() > least:
            a, b, c, d = cv2.boundingRect(mask.astype(np.uint8))
            boxes.append((x + a, y + b, c, d))
    half = high // 2
    return ObjectEvidence(
        number, int(sure.sum()), float(gone.sum()) / max(int(sure.sum()), 40),
        float(gone[:half].sum()) / max(int(sure[:half].sum()), 25), sum(spot.mm2 for spot in near),
        max((spot.reach_mm for spot in near), default=0.0),
        max(0.0, stunted - memory.stunted.get(number, (0.0, 0.0))[0]),
        int(strip.sum()), max(0.0, fits.get(number, 0.0) - usual_fit), _weighed(near, lambda spot: spot.rough),
        (_weighed(near, lambda spot: spot.push_mm[0]), _weighed(near, lambda spot: spot.push_mm[1])), high / box[2],
        _around(boxes),
    )  # fmt: skip


@dataclass(frozen=True)
class _Update:
    """One frame's measurements, to be remembered."""

    material: Image
    judged: Image
    outside: Image
    fits: dict[int, float]
    blob_mm2: float
    head_px: dict[int, int]
    stunted: dict[int, float]
    """By how much more than usual."""


def remember(memory: Memory, update: _Update, share: float = 1.0) -> None:
    """Take a frame into the memory of what is usual; `share` below 1 takes it in more slowly."""
    was_outside = memory.frames < 0
    grown = update.judged & was_outside
    memory.frames[grown] = memory.usual[grown] = 0
    for mask, values, mean, count in (
        (update.judged, np.clip(update.material, -CLIP, CLIP), memory.usual, memory.frames),
        (update.outside, (update.material > IS_MATERIAL).astype(np.float32), memory.strange, -memory.frames),
    ):
        rate = share / np.minimum(np.maximum(count[mask], 0) + 1, REMEMBERED)
        mean[mask] += rate * (values[mask] - mean[mask])
    memory.frames[update.judged] += 1
    memory.frames[update.outside] = np.minimum(memory.frames[update.outside], 0) - 1
    for number, better in update.fits.items():
        usual, n = memory.fits.get(number, (0.0, 0.0))
        memory.fits[number] = usual + share / min(n + 1, REMEMBERED) * (better - usual), n + 1
    for number, more in update.stunted.items():
        usual, n = memory.stunted.get(number, (0.0, 0.0))
        memory.stunted[number] = usual + share / min(n + 1, REMEMBERED) * (more or -0.5 * usual), n + 1
    rate = share / min(memory.blob_frames + 1, REMEMBERED)
    memory.blob_mm2 += rate * (update.blob_mm2 - memory.blob_mm2)
    memory.blob_frames += 1
    for what, px in update.head_px.items() if share == 1 else ():
        memory.head_px[what].append(px)


@dataclass(frozen=True)
class _Spot:
    """One stretch of material where none should be."""

    mm2: float
    near: int
    reach_mm: float
    box: tuple[int, int, int, int]
    rough: float
    """Its edge against that of a disc of its size."""
    push_mm: tuple[float, float]
    """From the middle of the object that it is near."""


def _spots(extra: Image, scene: ExpectedScene) -> list[_Spot]:
    count, labels, stats, middles = cv2.connectedComponentsWithStats(extra, connectivity=8)
    edge = labels[(extra > 0) & (cv2.erode(extra, np.ones((3, 3), np.uint8)) == 0)]
    edges = np.bincount(edge, minlength=count)
    boxes = {
        number: cv2.boundingRect((scene.owner == number).astype(np.uint8)) for number in range(1, scene.objects + 1)
    }
    boxes = {number: box for number, box in boxes.items() if box[2]}
    found = []
    for k in range(1, count):
        area = int(stats[k, cv2.CC_STAT_AREA])
        if area < LEAST_PX:
            continue
        u, v = middles[k]
        mm2 = scene.sight.mm2_per_px(float(u), float(v))
        side_mm = mm2**0.5
        gaps = {number: _gap(box, float(u), float(v)) for number, box in boxes.items()}
        near = min(gaps, key=gaps.__getitem__) if gaps else 0
        left, top, wide, high = (int(c) for c in stats[k, :4])
        box = left, top, wide, high
        reach = float(np.hypot(box[2], box[3])) / 2 + (gaps[near] if near else 0)
        if near and gaps[near] * side_mm > 60:
            near = 0
        rough = float(edges[k]) / (2 * float(np.sqrt(np.pi * area)))
        found.append(
            _Spot(min(area * mm2, 4000.0), near, reach * side_mm, box, rough, _push(scene, boxes.get(near), u, v))
        )
    return found


def _weighed(spots: list[_Spot], of: Callable[[_Spot], float]) -> float:
    """The mean of something over spots by their size."""
    whole = sum(spot.mm2 for spot in spots)
    return sum(spot.mm2 * of(spot) for spot in spots) / whole if whole else 0.0


def _push(scene: ExpectedScene, box: Any, u: float, v: float) -> tuple[float, float]:
    """How far a place is from the middle of a box, mm in x and y at the height that is being laid."""
    if box is None:
        return 0.0, 0.0
    middle = box[0] + box[2] / 2, box[1] + box[3] / 2
    x, y = np.linalg.solve(_px_per_mm(scene, scene.z_mm, middle), np.array([u - middle[0], v - middle[1]]))
    return float(x), float(y)


def _gap(box: tuple[int, int, int, int], u: float, v: float) -> float:
    x, y, wide, high = box
    return float(np.hypot(max(x - u, 0, u - x - wide), max(y - v, 0, v - y - high)))


def _around(boxes: list[Any]) -> tuple[int, int, int, int] | None:
    if not boxes:
        return None
    left, top = min(b[0] for b in boxes), min(b[1] for b in boxes)
    return left, top, max(b[0] + b[2] for b in boxes) - left, max(b[1] + b[3] for b in boxes) - top


def _fits(scene: ExpectedScene, memory: Memory) -> dict[int, float]:
    """By how much better the top of each object fits somewhere beside its place: its last whole layer is laid over what
    looks like material, and moved about."""
    number = scene.layer - 1
    plan = scene.plans.get(number)
    if plan is None or number < 3:
        return {}
    z = scene.analysis.layers[number - 1].z_mm
    mapped = scene.sight.from_grid(z)
    high, wide = scene.sight.shape
    seen = cv2.warpPerspective(plan, mapped, (wide, high), flags=cv2.INTER_NEAREST)
    clipped = np.clip(memory.last, -1.5, 1.5)
    empty = scene.first == 0
    sizes = {n: int(((seen == n) & (memory.last != 0)).sum()) for n in range(1, scene.objects + 1)}
    found = {}
    for n in sorted(sizes, key=lambda n: -sizes[n])[:MOST_MATCHED]:
        mine = (seen == n).astype(np.uint8)
        whole = int(mine.sum())
        if whole < 25 or sizes[n] < 0.6 * whole:
            continue
        x, y, w, h = cv2.boundingRect(mine)
        jacobian = _px_per_mm(scene, z, (x + w / 2, y + h / 2))
        reach = int(np.ceil(REACH_MM * float(np.linalg.norm(jacobian, 2))))
        reach = min(reach, 40)
        pad = 4
        left, top = x - pad, y - pad
        right, bottom = x + w + pad, y + h + pad
        if left - reach < 0 or top - reach < 0 or right + reach > wide or bottom + reach > high:
            continue
        around_all = cv2.dilate(mine[top:bottom, left:right], np.ones((7, 7), np.uint8)) & ~mine[top:bottom, left:right]
        ring = around_all & empty[top:bottom, left:right]
        template = mine[top:bottom, left:right].astype(np.float32) / whole
        around = int(ring.sum())
        if around < max(12, OPEN_SHARE * int(around_all.sum())):
            continue
        template -= ring.astype(np.float32) / around
        window = clipped[top - reach : bottom + reach, left - reach : right + reach]
        fit = cv2.matchTemplate(window, template, cv2.TM_CCORR)
        here = float(fit[reach - 1 : reach + 2, reach - 1 : reach + 2].max())
        found[n] = float(fit.max()) - here
    return found


def _px_per_mm(scene: ExpectedScene, z: float, at: tuple[float, float]) -> Floats:
    """How pixels change with x and y in the plane at a height (2 x 2), at a place in the picture."""
    plane = scene.sight.pose.plane(z)
    back = np.linalg.inv(plane) @ np.array([*at, 1.0])
    spot = back[:2] / back[2]

    def px(x: float, y: float) -> Floats:
        p = plane @ np.array([x, y, 1.0])
        found: Floats = p[:2] / p[2]
        return found

    here = px(*spot)
    return np.stack([px(spot[0] + 1, spot[1]) - here, px(spot[0], spot[1] + 1) - here], 1)


def _blob(
    scene: ExpectedScene, seen: Compared, taken: int, allowed: Image
) -> tuple[float, tuple[int, int, int, int] | None]:
    """How much at the nozzle looks like material, mm² across the view, and where that is."""
    places = scene.head_places(taken)
    if not len(places):
        return 0.0, None
    some = places[:: max(1, len(places) // 12)]
    at = scene.sight.pose.project(some + np.array([0, 0, 2.0]), bent=False)
    beside = scene.sight.pose.project(some + np.array([1.0, 0, 2.0]), bent=False)
    above = scene.sight.pose.project(some + np.array([0, 0, 3.0]), bent=False)
    px_mm = max(float(np.linalg.norm(beside - at, axis=1).mean()), float(np.linalg.norm(above - at, axis=1).mean()))
    mask = np.zeros(scene.sight.shape, np.uint8)
    for u, v in at.tolist():
        cv2.circle(mask, (round(u), round(v)), max(2, round(BLOB_MM * px_mm)), 1, -1)
    like = (mask > 0) & ~allowed & (seen.like < 5) & (seen.bare > 5)
    spots = cv2.morphologyEx(like.astype(np.uint8), cv2.MORPH_OPEN, np.ones((2, 2), np.uint8))
    box = cv2.boundingRect(spots) if spots.any() else None
    return float(spots.sum()) / px_mm**2, box


def on_bed(sight: Sight, seen: Lit, bed: Image) -> FrameEvidence:
    """What lies on a bed that should be clear: nothing is expected, so all that is unlike the bare bed counts."""
    off = ((seen.fine > UNLIKE) & (bed > 0)).astype(np.uint8)
    off = cv2.morphologyEx(off, cv2.MORPH_OPEN, np.ones((2, 2), np.uint8))
    count, _, stats, middles = cv2.connectedComponentsWithStats(off, connectivity=8)
    areas = [
        int(stats[k, cv2.CC_STAT_AREA]) * sight.mm2_per_px(*(float(c) for c in middles[k])) for k in range(1, count)
        if stats[k, cv2.CC_STAT_AREA] >= LEAST_PX
    ]  # fmt: skip
    box = cv2.boundingRect(off) if areas else None
    return FrameEvidence((), 0.0, box, sum(areas))
