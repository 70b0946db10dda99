"""What is made of a picture: turned, mirrored, cut, scaled; and pictures that are none."""

from __future__ import annotations

import io
import unittest
from typing import Literal

import numpy as np
from PIL import Image

from chronarch.core.watching.camera_settings import CameraSettings, Crop
from chronarch.tender.peripherals.camera_picture import SMALL_PX, Picture, check_picture, full_picture, small_picture
from chronarch.tender.peripherals.camera_sources.source import CameraFailed

RED, GREEN, BLUE, WHITE = (220, 30, 30), (30, 200, 30), (30, 30, 220), (240, 240, 240)
NAMES = {RED: "red", GREEN: "green", BLUE: "blue", WHITE: "white"}


def quarters(width: int = 400, height: int = 200) -> bytes:
    """A picture that is red and green above, blue and white below."""
    pixels = np.zeros((height, width, 3), "uint8")
    pixels[: height // 2, : width // 2], pixels[: height // 2, width // 2 :] = RED, GREEN
    pixels[height // 2 :, : width // 2], pixels[height // 2 :, width // 2 :] = BLUE, WHITE
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "JPEG", quality=95)
    return out.getvalue()


def corners(picture: Picture) -> list[str]:
    """The colours of its corners, from the upper left clockwise."""
    image = np.asarray(Image.open(io.BytesIO(picture.jpeg))).astype(int)
    high, wide, _ = image.shape
    places = ((5, 5), (5, wide - 6), (high - 6, wide - 6), (high - 6, 5))
    return [NAMES[min(NAMES, key=lambda c: int(np.abs(image[y, x] - c).sum()))] for y, x in places]


class Made(unittest.TestCase):
    def test_it_is_passed_on_as_it_comes_without_a_wish(self) -> None:
        jpeg = quarters()
        picture = full_picture(jpeg, CameraSettings(quality=50))
        self.assertIs(picture.jpeg, jpeg)
        self.assertEqual((picture.width, picture.height), (400, 200))

    def test_it_is_turned_clockwise_then_mirrored(self) -> None:
        turns: tuple[tuple[Literal[90, 180, 270], list[str]], ...] = (
            (90, ["blue", "red", "green", "white"]),
            (180, ["white", "blue", "red", "green"]),
            (270, ["green", "white", "blue", "red"]),
        )
        for turn, seen in turns:
            picture = full_picture(quarters(), CameraSettings(turn=turn))
            self.assertEqual(corners(picture), seen)
            self.assertEqual((picture.width, picture.height), (400, 200) if turn == 180 else (200, 400))
            mirrored = full_picture(quarters(), CameraSettings(turn=turn, mirror=True))
            self.assertEqual(corners(mirrored), [seen[1], seen[0], seen[3], seen[2]])

    def test_it_is_cut_before_it_is_turned(self) -> None:
        cut = full_picture(quarters(), CameraSettings(crop=Crop(left=0.5, bottom=0.5), turn=90))
        self.assertEqual((cut.width, cut.height, set(corners(cut))), (100, 200, {"green"}))
        sliver = full_picture(quarters(20, 20), CameraSettings(crop=Crop(left=0.9), width_px=500))
        self.assertEqual((sliver.width, sliver.height), (2, 20), "it is never made wider than it is")

    def test_it_is_no_wider_than_asked_and_the_small_one_fits(self) -> None:
        picture = full_picture(quarters(1000, 600), CameraSettings(width_px=500))
        self.assertEqual((picture.width, picture.height), (500, 300))
        for width, height in ((2000, 500), (500, 2000), (481, 481)):
            small = small_picture(full_picture(quarters(width, height), CameraSettings()))
            self.assertEqual(max(small.width, small.height), SMALL_PX)
            self.assertAlmostEqual(small.width / small.height, width / height, delta=0.02)
        tiny = full_picture(quarters(SMALL_PX, 100), CameraSettings())
        self.assertIs(small_picture(tiny), tiny)

    def test_what_is_no_picture_is_said(self) -> None:
        good, grey = quarters(), io.BytesIO()
        Image.new("CMYK", (60, 40)).save(grey, "JPEG")
        self.assertEqual(full_picture(grey.getvalue(), CameraSettings(mirror=True)).width, 60)
        huge = io.BytesIO()
        Image.new("L", (9000, 6000)).save(huge, "JPEG", quality=30)
        for jpeg, why in (
            (b"\xff\xd8\xff" + b"x" * 50, "begins as a JPEG but is none"),
            (good[: len(good) // 2], "damaged or cut short"),
            (huge.getvalue(), "9000 x 6000 pixels; lower its resolution"),
        ):
            with self.subTest(why), self.assertRaisesRegex(CameraFailed, why):
                full_picture(jpeg, CameraSettings(mirror=True))
        check_picture(full_picture(good, CameraSettings()))
        with self.assertRaisesRegex(CameraFailed, "damaged or cut short"):
            check_picture(full_picture(good[: len(good) // 2], CameraSettings()))


if __name__ == "__main__":
    unittest.main()
