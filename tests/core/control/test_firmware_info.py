"""What a machine says of itself."""

from __future__ import annotations

import unittest

from chronarch.core.control.firmware_info import read_contact, sounds_right


class Contacts(unittest.TestCase):
    def test_what_a_machine_says_of_itself_is_read_for_what_it_says(self) -> None:
        contact = read_contact(
            [
                "FIRMWARE_NAME:Brass 2.1 (Oct 2026) SOURCE_CODE_URL:none PROTOCOL_VERSION:1.0 UUID:ab-12",
                "Cap:AUTOREPORT_TEMP:1",
                "cap:emergency_parser:0",
                "Cap:ODD",
                "ok N3",
            ]
        )
        self.assertEqual(contact.firmware, "Brass 2.1 (Oct 2026)")
        self.assertEqual(contact.words, {"SOURCE_CODE_URL": "none", "PROTOCOL_VERSION": "1.0", "UUID": "ab-12"})
        self.assertEqual((contact.reports_heat, contact.takes_urgent, contact.numbered_oks), (True, False, True))

    def test_a_machine_that_says_nothing_is_no_error(self) -> None:
        contact = read_contact(["echo:Unknown command", "ok"])
        self.assertEqual((contact.firmware, contact.reports_heat), ("", None))

    def test_noise_does_not_sound_like_text(self) -> None:
        self.assertTrue(sounds_right(b"ok T:21.0\r\n"))
        for noise in (b"", b"\x80\xfe\x91\xc3\n", b"ok without an end"):
            self.assertFalse(sounds_right(noise), noise)


if __name__ == "__main__":
    unittest.main()
