"""OpenCV on one thread: a picture is small work, and processes that are forked must
not wait for threads that they do not have."""

from __future__ import annotations

import cv2

cv2.setNumThreads(1)

__all__ = ["cv2"]
