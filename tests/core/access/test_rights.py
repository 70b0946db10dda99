"""What roles held for places come to."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.access.rights import (
    GIVEN_ROLES,
    NOTHING,
    RIGHTS,
    WHOLE_SHOP,
    GivenRole,
    Held,
    Place,
    PlaceKind,
    Reach,
    Right,
    Whereabouts,
)

HARBOUR, MILL = Place(PlaceKind.SITE, "Harbour"), Place(PlaceKind.SITE, "Mill")
LARGE = Place(PlaceKind.POOL, "Large")
places = st.sampled_from([WHOLE_SHOP, HARBOUR, MILL, LARGE])
held = st.lists(st.tuples(st.sets(st.sampled_from(Right)), places), max_size=5).map(Held.of)
machines = st.builds(
    Whereabouts, st.sampled_from(["", "Harbour", "Mill"]), st.sampled_from([(), ("Large",), ("Small", "Large")])
)


class Places(unittest.TestCase):
    def test_a_role_for_a_site_or_pool_counts_at_its_machines_and_what_is_the_shops_is_not_given_by_it(self) -> None:
        at_harbour = Held.by_role(GivenRole.TECHNICIAN, HARBOUR)
        for right, meaning in RIGHTS.items():
            has = right in GIVEN_ROLES[GivenRole.TECHNICIAN]
            with self.subTest(right):
                self.assertEqual(at_harbour.may(right), has and meaning.reach is not Reach.SHOP)
                here, there = Whereabouts("Harbour", ("Small",)), Whereabouts("Mill", ("Harbour",))
                self.assertEqual(at_harbour.may(right, here), has and meaning.reach is not Reach.SHOP)
                self.assertEqual(at_harbour.may(right, there), has and meaning.reach is Reach.ANYWHERE)
        in_pool = Held.by_role(GivenRole.OPERATOR, LARGE)
        self.assertTrue(in_pool.may(Right.JUDGE, Whereabouts("Mill", ("Small", "Large"))))
        self.assertFalse(in_pool.may(Right.JUDGE, Whereabouts("Large", ())))
        self.assertFalse(Held.by_role(GivenRole.OPERATOR, Place(PlaceKind.SITE, "")).may(Right.JUDGE, Whereabouts()))

    def test_why_not_is_said_in_words(self) -> None:
        here = Whereabouts("Mill")
        self.assertEqual(NOTHING.lacks(Right.SPEND), "That needs the right to set prices")
        both = Held.of([([Right.OPERATE], HARBOUR), ([Right.OPERATE], LARGE)])
        self.assertEqual(
            both.lacks(Right.OPERATE, here),
            "That needs the right to operate machines here; you have it for the pool Large and the site Harbour",
        )

    def test_every_right_has_a_meaning_and_no_given_role_is_both_a_persons_and_a_tenders(self) -> None:
        self.assertEqual(set(RIGHTS), set(Right))
        self.assertEqual([role for role, rights in GIVEN_ROLES.items() if Right.TENDER in rights], [GivenRole.TENDER])
        self.assertEqual(GIVEN_ROLES[GivenRole.MANAGER] | GIVEN_ROLES[GivenRole.TENDER], set(Right))


class Bounds(unittest.TestCase):
    @given(held, held, st.sampled_from(Right), machines)
    def test_a_key_may_do_no_more_than_it_says_and_no_more_than_its_person(
        self, key: Held, person: Held, right: Right, at: Whereabouts
    ) -> None:
        both = key.within(person)
        if both.may(right, at):
            self.assertTrue(key.may(right, at) and person.may(right, at))
        if person == Held.of([(list(Right), WHOLE_SHOP)]):
            self.assertEqual(both, key)

    @given(held, st.sets(st.sampled_from(Right), min_size=1), places, machines)
    def test_what_may_be_given_is_what_one_has_oneself(
        self, giver: Held, rights: set[Right], place: Place, at: Whereabouts
    ) -> None:
        if giver.covers(rights, place):
            got = Held.of([(rights, place)])
            for right in rights - {Right.TENDER}:
                self.assertLessEqual(got.may(right, at), giver.may(right, at))
                self.assertLessEqual(got.everywhere(right), giver.everywhere(right))
            if Right.TENDER in rights:
                self.assertTrue(giver.everywhere(Right.SET_UP))


if __name__ == "__main__":
    unittest.main()
