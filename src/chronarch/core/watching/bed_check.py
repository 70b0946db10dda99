"""Whether a bed is clear before a start: frames of a bed that should be clear go in, what seems to lie there comes out.

The head stands in the clear bed's frame, and may stand elsewhere now. What it may hide in either is not looked at, so
its place must be known in both.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from chronarch.core.watching import evidence as e
from chronarch.core.watching.appearance import ClearBed
from chronarch.core.watching.build_watch import CameraView, Seen, cut, decode, within
from chronarch.core.watching.expected_scene import Sight
from chronarch.core.watching.frame_quality import ClearView, Unjudged
from chronarch.core.watching.judgement import WHOLE_AFTER_S, Judge
from chronarch.core.watching.opencv import cv2

Place = tuple[float, float, float]
EDGE_MM, AROUND_MM, ABOVE_MM = 2.0, 6.0, 12.0
"""So much of the bed's edge is not looked at; and how far around and above the bed the picture matters."""
SEEN_SHARE = 0.5
"""Of the bed, so much must be in sight."""
SHADOW_PX = 5
"""How far around a head its edges reach at most."""


class BedCheck:
    """Looks at one bed through one camera, in the order of the frames' times; each is a whole look."""

    def __init__(self, view: CameraView, head_mm: Place, judge: Judge) -> None:
        self.view, self.judge = view, judge
        x, y = view.bed_mm
        whole = Sight(view.pose, view.bed_mm)
        low, high = (-AROUND_MM, -AROUND_MM, 0.0), (x + AROUND_MM, y + AROUND_MM, ABOVE_MM)
        self._box = within(cv2.boundingRect(whole.box(low, high)), view.pose.size)
        self._sight = Sight(view.pose.cropped(self._box), view.bed_mm)
        self._whole = whole
        self._clear = ClearBed(cut(view.clear, self._box))
        self._quality = ClearView(view.clear)
        a = EDGE_MM
        edge = [(a, a, 0), (x - a, a, 0), (x - a, y - a, 0), (a, y - a, 0)]
        self._bed = self._sight.hull(np.array(edge, np.float64))
        self._head_mm = head_mm
        self._looks = 0

    def look(self, jpeg: bytes, head_mm: Place) -> Seen:
        """Judge one frame, with the nozzle's tip at a place, mm. Raises ValueError for a frame that cannot be read."""
        image = self.view.prepare(decode(jpeg))
        heads = self._whole.heads(np.array([self._head_mm, head_mm], np.float64))
        hidden = cv2.dilate((heads > 0).astype(np.uint8), np.ones((SHADOW_PX, SHADOW_PX), np.uint8))
        unjudged = self._quality.unjudged(image, hidden)
        bed = np.where(cut(hidden, self._box) > 0, 0, self._bed).astype(np.uint8)
        if unjudged is None and (bed > 0).sum() < SEEN_SHARE * (self._bed > 0).sum():
            unjudged = Unjudged.HEAD
        if unjudged is not None:
            return Seen(unjudged, None, self.judge.now())
        lit = self._clear.lit(cut(image, self._box), bed, textured=True)
        found = e.on_bed(self._sight, lit, bed)
        self._looks += 1
        suspicions = self.judge.hear(found, {}, self._looks * WHOLE_AFTER_S)
        told = tuple(replace(s, place=self.view.share(s.place, self._box)) for s in suspicions)
        return Seen(None, found, told)
