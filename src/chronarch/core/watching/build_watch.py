"""The watch over one build: frames and commands taken go in, what is seen comes out.

One object of this holds the memory of one build and one camera; it is told frames in the order of their times.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from chronarch.core.gcode.analysis import Analysis
from chronarch.core.gcode.kernel_layout import Bytes
from chronarch.core.machines.model import MachineModel
from chronarch.core.watching import evidence as e
from chronarch.core.watching.appearance import ClearBed, Compared, Lit, MaterialLook
from chronarch.core.watching.camera_pose import CameraPose, KnownPoint, PoseUnclear, Spot, find_bend, find_pose
from chronarch.core.watching.expected_scene import OTHER, ExpectedScene, Sight
from chronarch.core.watching.frame_quality import FOREIGN_SHARE, ClearView, Unjudged
from chronarch.core.watching.judgement import Judge
from chronarch.core.watching.opencv import cv2
from chronarch.core.watching.suspicion import Suspicion

Image = np.ndarray[Any, np.dtype[Any]]
WIDTH = 960
"""Frames are looked at in this width at most, pixels."""
LEAST_OBJECT_PX = 60
MOST_HANDS = 10
"""What is in front of the bed for more frames is no hand, and is judged."""
FAINT = 10.0
"""Below this contrast a material is faint on its bed."""
SUSPECTS = 0.25
"""From this probability on, what is seen is taken into the memory slowly."""


def decode(jpeg: bytes) -> Image:
    """A JPEG as a picture (height x width x 3; blue, green, red). Raises ValueError."""
    data = np.frombuffer(jpeg, np.uint8)
    image: Image | None = cv2.imdecode(data, cv2.IMREAD_COLOR) if len(data) else None
    if image is None:
        raise ValueError("the frame is no JPEG that can be read")
    return image


@dataclass(frozen=True)
class CameraView:
    """How a camera sees a bed: its pose for pictures as they are compared, and the clear bed's frame in that form."""

    pose: CameraPose
    bed_mm: Spot
    clear: Image

    @classmethod
    def of(
        cls,
        clear_jpeg: bytes,
        corners: Sequence[Spot],
        bed_mm: Spot,
        size: tuple[int, int] | None = None,
        known: KnownPoint | None = None,
    ) -> CameraView:
        """From the clear bed's frame and the bed's corners, and perhaps a point at a known height, in pixels of it (or
        of a picture of `size`). Raises PoseUnclear, ValueError."""
        clear = decode(clear_jpeg)
        high, wide = clear.shape[:2]
        size = size or (wide, high)
        scale = wide / size[0]
        if abs(size[0] / size[1] - wide / high) > 0.02:
            raise PoseUnclear(
                f"The corners belong to a picture of {size[0]} x {size[1]} pixels, which has another shape."
            )
        here = [(u * scale, v * scale) for u, v in corners]
        bend = find_bend(clear[..., 1], here, bed_mm)
        if known is not None:
            known = replace(known, seen_px=(known.seen_px[0] * scale, known.seen_px[1] * scale))
        least = min(WIDTH, wide)
        pose = find_pose(here, bed_mm, (wide, high), bend=bend, known=known).scaled((least, round(high * least / wide)))
        whole = cls(pose, bed_mm, clear)
        return replace(whole, clear=whole.prepare(clear))

    def share(self, place: Any, box: Sequence[int]) -> tuple[float, float, float, float] | None:
        """A place (left, top, width, height, pixels) of a part, cut out along `box`, of a picture as it is compared; as
        shares of the whole picture that the camera gives. None for None."""
        if place is None:
            return None
        x, y, wide, high = place
        corners = np.array([(x, y), (x + wide, y + high)], np.float64) + box[:2]
        pose = self.pose
        flat = (corners - pose.middle) / pose.focal_px
        (a, b), (c, d) = (
            flat * (1 + pose.bend * (flat**2).sum(1, keepdims=True)) * pose.focal_px + pose.middle
        ) / pose.size
        return float(a), float(b), float(c - a), float(d - b)

    def prepare(self, image: Image) -> Image:
        """A picture in the size and form in which it is compared, made in one step. Raises ValueError for another
        shape."""
        wide, high = self.pose.size
        if abs(image.shape[1] / image.shape[0] - wide / high) > 0.02:
            raise ValueError("the frame has another shape than the clear bed's")
        maps = self.pose.straightening(image.shape[1] / wide)
        if maps is None and image.shape[1] == wide:
            return image
        form: Image = (
            cv2.resize(image, (wide, high), interpolation=cv2.INTER_LINEAR) if maps is None
            else cv2.remap(image, maps[0], maps[1], cv2.INTER_LINEAR)
        )  # fmt: skip
        return form


@dataclass(frozen=True)
class Seen:
    """What a frame showed: why it was not judged, or the evidence; and what is suspected now."""

    unjudged: Unjudged | None
    evidence: e.FrameEvidence | None
    suspicions: tuple[Suspicion, ...]


class BuildWatch:
    """Watches one build through one camera."""

    def __init__(self, view: CameraView, data: Bytes, analysis: Analysis, model: MachineModel, judge: Judge) -> None:
        self.view, self.judge = view, judge
        x, y = view.bed_mm
        top = max((layer.z_mm for layer in analysis.layers), default=0.0)
        whole = Sight(view.pose, view.bed_mm)
        self._box = within(cv2.boundingRect(whole.box((-6, -6, 0), (x + 6, y + 6, top + 12))), view.pose.size)
        self.sight = Sight(view.pose.cropped(self._box), view.bed_mm)
        self.scene = ExpectedScene(data, analysis, model, self.sight)
        self._clear = ClearBed(cut(view.clear, self._box))
        self._quality = ClearView(view.clear)
        self._bed = self.sight.hull(np.array([(2, 2, 0), (x - 2, 2, 0), (x - 2, y - 2, 0), (2, y - 2, 0)], np.float64))
        self._memory = e.Memory(self.sight.shape)
        self.names = {n: self.scene.name(n) for n in range(1, self.scene.objects + 1)}
        self._material: MaterialLook | None = None
        self._faint = False
        self._hands = 0
        """For how many frames something has been in front of the bed."""

    def look(self, jpeg: bytes, taken: int, at_s: float) -> Seen:
        """Judge one frame, taken at a time (s, rising), when the machine had taken so many commands. Raises ValueError
        for a frame that cannot be read."""
        image = self.view.prepare(decode(jpeg))
        self.scene.advance(taken)
        head = self.scene.head(taken)
        laid = self.scene.first > 0
        around = cv2.dilate(laid.astype(np.uint8), np.ones((9, 9), np.uint8))
        hidden = np.zeros(image.shape[:2], np.uint8)
        left, top, wide, high = self._box
        hidden[top : top + high, left : left + wide] = head | around
        unjudged = self._quality.unjudged(image, hidden)
        if unjudged is not None:
            return self._told(unjudged, None, self.judge.now())
        ground = np.where((around > 0) | (head > 0), 0, 255).astype(np.uint8)
        lit = self._clear.lit(cut(image, self._box), ground, textured=self._faint or not taken)
        if taken and not self.scene.layer:
            return self._told(None, None, self.judge.now())
        if not taken:
            found = e.on_bed(self.sight, lit, self._bed)
            return self._told(None, found, self.judge.hear(found, {}, at_s))
        head = self.scene.head(taken, lit.bare > e.UNLIKE)
        self._learn(lit, laid, head)
        seen = Compared.of(lit, self._material, faint=self._faint)
        self._hands = self._hands + 1 if e.in_the_way(self.scene, seen, head, self._memory) > FOREIGN_SHARE else 0
        if 0 < self._hands <= MOST_HANDS:
            return self._told(Unjudged.HANDS, None, self.judge.now())
        found, update = e.look(self.scene, seen, head, taken, self._memory)
        found = replace(found, faint=self._faint)
        suspicions = self.judge.hear(found, self.names, at_s)
        worst = max((s.probability for s in suspicions), default=0.0)
        e.remember(self._memory, update, 1.0 if worst < SUSPECTS else 0.15)
        return self._told(None, found, suspicions)

    def _told(
        self, unjudged: Unjudged | None, found: e.FrameEvidence | None, suspicions: tuple[Suspicion, ...]
    ) -> Seen:
        return Seen(unjudged, found, tuple(replace(s, place=self.view.share(s.place, self._box)) for s in suspicions))

    def _learn(self, lit: Lit, laid: Image, head: Image) -> None:
        """What the material looks like, from where it should be and is unlike the bed."""
        core = cv2.erode((laid & (self.scene.owner < OTHER)).astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
        core &= head == 0
        if core.sum() < LEAST_OBJECT_PX:
            core = laid & (head == 0)
        unlike = core & (lit.bare > 4)
        mine = unlike if unlike.sum() > 0.4 * core.sum() else core
        if mine.sum() < LEAST_OBJECT_PX:
            return
        mean = np.median(lit.channels[mine], 0).astype(np.float64)
        if self._material is None:
            self._material = MaterialLook(mean)
        self._material.learn(mean)
        self._faint = self._clear.contrast(self._material, self._bed) < FAINT


def cut(image: Image, box: Sequence[int]) -> Image:
    """A part of a picture: left, top, width, height."""
    left, top, wide, high = box
    return np.ascontiguousarray(image[top : top + high, left : left + wide])


def within(box: Any, size: tuple[int, int]) -> tuple[int, int, int, int]:
    """The part of a picture that is looked at. Raises PoseUnclear where that is hardly any."""
    left, top, wide, high = (int(v) for v in box)
    if wide < 20 or high < 20:
        raise PoseUnclear("The bed is not in the picture.")
    return left, top, min(wide, size[0] - left), min(high, size[1] - top)
