"""The rules of cameras without a socket: addresses, rates within a budget, how one reader is served."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.watching.camera_address import NotACameraAddress, parse_camera_address
from chronarch.core.watching.camera_settings import CameraSettings, Crop
from chronarch.core.watching.frame_rates import LEAST, SELDOM, UNSEEN_EVERY_S, FrameRates
from chronarch.core.watching.reader_pace import GIVEN_UP_S, MOST_UNDER_WAY, ReaderPace


class Addresses(unittest.TestCase):
    def test_an_address_is_taken_apart_without_its_password(self) -> None:
        at = parse_camera_address("http://sh%6Fp:a%2Fb@[::1]:8080/x.jpg?y=1")
        self.assertEqual((at.url, at.host, at.port), ("http://[::1]:8080/x.jpg?y=1", "::1", 8080))
        self.assertEqual((at.login, at.password), ("shop", "a/b"))
        self.assertEqual(parse_camera_address("rtsp://cam/x").port, 554)
        self.assertEqual(parse_camera_address("device:///dev/v4l/by-id/a%20b").device, "/dev/v4l/by-id/a b")

    @given(st.text(max_size=40))
    def test_any_other_text_is_refused_in_words_without_what_may_be_a_password(self, text: str) -> None:
        for written in (text, f"http://shop:s3cr3t@{text}", f"file://shop:s3cr3t@{text}"):
            try:
                parse_camera_address(written)
            except NotACameraAddress as refused:
                self.assertNotIn("s3cr3t", str(refused))

    def test_a_crop_leaves_something(self) -> None:
        with self.assertRaises(ValueError):
            Crop(left=0.5, right=0.5)
        self.assertTrue(CameraSettings(quality=90, light="lamp").as_it_comes)
        self.assertFalse(CameraSettings(crop=Crop(top=0.1)).as_it_comes)


class Rates(unittest.TestCase):
    def test_rates_fall_when_cameras_cost_more_than_their_budget_and_rise_again(self) -> None:
        rates = FrameRates(budget=0.5)
        self.assertEqual((rates.every_s(5), rates.every_s(0)), (0.2, UNSEEN_EVERY_S))
        rates.measured(1.0)
        self.assertEqual((rates.factor, rates.every_s(5)), (0.5, 0.4))
        rates.measured(0.45)
        self.assertEqual(rates.factor, 0.5, "near its budget nothing changes")
        for _ in range(60):
            rates.measured(0.1)
        self.assertEqual((rates.factor, rates.every_s(5)), (1.0, 0.2))

    @given(st.lists(st.floats(0, 64), max_size=50), st.floats(0.02, 64), st.floats(0, 15))
    def test_every_camera_is_asked_now_and_then_whatever_it_costs(
        self, used: list[float], budget: float, looked_at: float
    ) -> None:
        rates = FrameRates(budget)
        for one in used:
            rates.measured(one)
        self.assertTrue(LEAST <= rates.factor <= 1)
        self.assertLessEqual(rates.every_s(looked_at), UNSEEN_EVERY_S / SELDOM)
        self.assertGreaterEqual(rates.every_s(looked_at), 1 / max(looked_at, 1 / UNSEEN_EVERY_S) - 1e-9)

    def test_what_is_looked_at_comes_no_less_often_than_what_is_not(self) -> None:
        rates = FrameRates(0.1)
        for _ in range(20):
            rates.measured(5.0)
        self.assertLessEqual(rates.every_s(5), rates.every_s(0))


class Readers(unittest.TestCase):
    def test_of_each_camera_one_frame_is_under_way_until_it_is_got(self) -> None:
        pace = ReaderPace()
        self.assertTrue(pace.may_send("a", 0.2, 10.0))
        pace.sent("a", 1, 10.0)
        self.assertFalse(pace.may_send("a", 0.2, 11.0))
        self.assertTrue(pace.may_send("b", 0.2, 11.0))
        pace.got(1, 11.0)
        self.assertTrue(pace.may_send("a", 0.2, 11.0))
        self.assertFalse(pace.may_send("a", 2.0, 11.0), "it is not due")

    def test_a_slow_line_gets_small_frames_and_full_ones_again_when_it_is_quick(self) -> None:
        pace, at_s = ReaderPace(), 0.0
        for number, takes_s in enumerate([2.0] * 4 + [0.05] * 20):
            was = pace.small
            pace.sent("a", number, at_s)
            at_s += takes_s
            pace.got(number, at_s)
            if number == 3:
                self.assertTrue(pace.small)
            self.assertFalse(was and not pace.small and takes_s > 1, "a slow frame makes it no quicker")
        self.assertFalse(pace.small)

    def test_few_are_under_way_at_once_and_one_that_is_lost_holds_nothing_up_for_good(self) -> None:
        pace = ReaderPace()
        for n in range(MOST_UNDER_WAY):
            self.assertTrue(pace.may_send(f"c{n}", 1.0, 0.0))
            pace.sent(f"c{n}", n, 0.0)
        self.assertFalse(pace.may_send("more", 1.0, 1.0))
        self.assertTrue(pace.may_send("c0", 1.0, GIVEN_UP_S + 1))
        pace.got(99, 1.0)


if __name__ == "__main__":
    unittest.main()
