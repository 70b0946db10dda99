"""The audit's chain: whatever is changed in it is found, and what is taken out of it is not missed."""

from __future__ import annotations

import unittest
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.access.audit import (
    MOST_FAULTS,
    NOTHING_BEFORE,
    ChainCheck,
    SealedEntry,
    digest_of,
    head_of,
    seal_of,
)

KEY = b"k" * 32
NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
words = st.text(max_size=20)
texts = st.tuples(words, words, words, words)


def chain(told: Sequence[tuple[str, str, str, str]], first: int = 1, before: str = NOTHING_BEFORE) -> list[SealedEntry]:
    """A chain that tells these, of who, what, from where, and of what."""
    found = []
    for n, (who, act, origin, text) in enumerate(told):
        entry = SealedEntry(
            first + n, NOON + timedelta(seconds=n), who, act, 0, origin, text, digest_of(origin), digest_of(text)
        )
        found.append(replace(entry, seal=seal_of(KEY, before, entry)))
        before = found[-1].seal
    return found


def faults(entries: Sequence[SealedEntry], last: int, seal: str, key: bytes = KEY) -> ChainCheck:
    check = ChainCheck(key, 1, NOTHING_BEFORE)
    check.take(entries)
    check.end(last, seal)
    return check


class Chains(unittest.TestCase):
    @given(st.lists(texts, max_size=6))
    def test_one_that_nobody_touched_is_whole(self, told: list[tuple[str, str, str, str]]) -> None:
        found = chain(told)
        check = faults(found, len(found), found[-1].seal if found else NOTHING_BEFORE)
        self.assertEqual((check.faults, check.entries), ([], len(told)))

    @given(st.lists(texts, min_size=1, max_size=6), st.data())
    def test_whatever_is_changed_is_found(self, told: list[tuple[str, str, str, str]], data: st.DataObject) -> None:
        found = chain(told)
        n = data.draw(st.integers(0, len(found) - 1))
        one, other = found[n], data.draw(words)
        changes = {
            "who": replace(one, who=one.who + "!"), "act": replace(one, act=f"{other}{one.act}!"),
            "at": replace(one, at=one.at + timedelta(microseconds=1)), "status": replace(one, status=403),
            "origin": replace(one, origin=f"{one.origin}!"), "told": replace(one, told=f"{one.told}!"),
            "both": replace(one, told="other", told_digest=digest_of("other")),
            "moved text": replace(one, who=one.who + one.act + "!", act=""),
        }  # fmt: skip
        for what, changed in changes.items():
            with self.subTest(what):
                check = faults([*found[:n], changed, *found[n + 1 :]], len(found), found[-1].seal)
                self.assertGreater(check.found, 0)
                self.assertTrue(any(f"Entry {one.number} was changed" in fault for fault in check.faults))

    @given(st.lists(texts, min_size=2, max_size=6), st.data())
    def test_whatever_is_missing_is_named(self, told: list[tuple[str, str, str, str]], data: st.DataObject) -> None:
        found = chain(told)
        n = data.draw(st.integers(0, len(found) - 1))
        check = faults([*found[:n], *found[n + 1 :]], len(found), found[-1].seal)
        self.assertIn(f"Entry {n + 1} is missing.", check.faults)

    def test_what_is_cut_off_at_the_end_moved_or_put_in_is_found(self) -> None:
        found = chain([("maud", "a", "", ""), ("maud", "b", "", ""), ("maud", "c", "", "")])
        whole = (3, found[-1].seal)
        self.assertEqual(faults(found[:1], *whole).faults, ["Entries 2 to 3 are missing."])
        swapped = [found[0], replace(found[2], number=2), replace(found[1], number=3)]
        self.assertEqual(faults(swapped, *whole).found, 3)
        again = [found[0], found[0], *found[1:]]
        self.assertIn("stands where none can be", faults(again, *whole).faults[0])
        self.assertNotEqual(head_of(KEY, 1, NOTHING_BEFORE, *whole), head_of(KEY, 1, NOTHING_BEFORE, 2, found[1].seal))
        self.assertEqual(faults(found, *whole, key=b"another key").found, 3)

    def test_what_is_taken_out_is_not_missed(self) -> None:
        found = chain([("person 3", "a", "10.0.0.7", "Tilda Moss"), ("maud", "b", "", "")])
        bare = [replace(found[0], origin=None, told=None), found[1]]
        check = faults(bare, 2, found[-1].seal)
        self.assertEqual((check.faults, check.taken_out), ([], 1))

    def test_it_begins_where_older_entries_were_given_up(self) -> None:
        found = chain([("maud", str(n), "", "") for n in range(5)])
        check = ChainCheck(KEY, 3, found[1].seal)
        check.take(found[2:])
        check.end(5, found[-1].seal)
        self.assertEqual(check.faults, [])

    def test_no_more_faults_are_told_than_anybody_reads(self) -> None:
        found = chain([("maud", str(n), "", "") for n in range(MOST_FAULTS + 20)])
        check = faults([replace(one, who="wilf") for one in found], len(found), found[-1].seal)
        self.assertEqual((len(check.faults), check.found), (MOST_FAULTS, MOST_FAULTS + 20))


if __name__ == "__main__":
    unittest.main()
