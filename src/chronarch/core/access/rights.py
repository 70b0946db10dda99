"""What people and programs may do, and where: the rights, the roles that are given, and what somebody holds.

A role is a named set of rights. It is held for the whole shop, for a site or for a pool of machines. How far a right
reaches then is its own: what is done at one machine wants it there; what concerns all wants it for the whole shop.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum


class Right(StrEnum):
    """One thing that somebody may do."""

    SEE = "see"
    OPERATE = "operate"
    JUDGE = "judge"
    QUEUE = "queue"
    CHANGE_FILES = "change_files"
    CHANGE_MODELS = "change_models"
    SEND_LINES = "send_lines"
    OVERRULE = "overrule"
    SPEND = "spend"
    SET_UP = "set_up"
    MANAGE_PEOPLE = "manage_people"
    TENDER = "tender"

    @property
    def words(self) -> str:
        """The right, as a sentence says it after "may"."""
        return RIGHTS[self].words


class Reach(StrEnum):
    """Where a right must be held for it to be had: `anywhere` will do; at the `machine` that it is done to; or for the
    whole `shop`."""

    ANYWHERE = "anywhere"
    MACHINE = "machine"
    SHOP = "shop"


@dataclass(frozen=True)
class RightMeaning:
    """How far a right reaches, what it is called after "may", and what it takes in."""

    reach: Reach
    words: str
    text: str


RIGHTS: Mapping[Right, RightMeaning] = {
    Right.SEE: RightMeaning(
        Reach.ANYWHERE, "look", "See machines, cameras, files, orders and records; set what reaches oneself."
    ),
    Right.OPERATE: RightMeaning(
        Reach.MACHINE,
        "operate machines",
        "Start, pause and stop builds, move and heat by hand, load spools, upkeep.",
    ),
    Right.JUDGE: RightMeaning(
        Reach.MACHINE, "judge parts", "Clear beds and say good or scrap; answer what the watch suspects."
    ),
    Right.QUEUE: RightMeaning(
        Reach.ANYWHERE, "change the queue", "Take orders, queue, move, hold and withdraw jobs; count the stock."
    ),
    Right.CHANGE_FILES: RightMeaning(
        Reach.ANYWHERE, "change files", "Add, edit, move and throw away files, folders and parts."
    ),
    Right.CHANGE_MODELS: RightMeaning(
        Reach.SHOP, "change models", "Say what machines of a make can do, and what materials want."
    ),
    Right.SEND_LINES: RightMeaning(
        Reach.MACHINE, "send lines", "Send a machine lines of one's own, and run its guarded sequences."
    ),
    Right.OVERRULE: RightMeaning(
        Reach.SHOP, "overrule preflight", "Let a file run although preflight found a danger in it."
    ),
    Right.SPEND: RightMeaning(Reach.SHOP, "set prices", "Say what an hour, a gram and a kilowatt hour cost."),
    Right.SET_UP: RightMeaning(
        Reach.SHOP, "set up the shop", "Add machines, cameras and plugs; hours, rules, reports, backups, storage."
    ),
    Right.MANAGE_PEOPLE: RightMeaning(
        Reach.SHOP, "manage people", "Invite and remove people, give roles, make keys of the shop."
    ),
    Right.TENDER: RightMeaning(
        Reach.SHOP, "speak as a tender", "For the key of a tender alone: what talks to the machines."
    ),
}
"""The one table of the rights."""


class PlaceKind(StrEnum):
    """What a role is held for."""

    SHOP = "shop"
    SITE = "site"
    POOL = "pool"


@dataclass(frozen=True)
class Place:
    """What a role is held for: the shop, or a site or pool by its name."""

    kind: PlaceKind = PlaceKind.SHOP
    name: str = ""

    @property
    def words(self) -> str:
        return "the whole shop" if self.kind is PlaceKind.SHOP else f"the {self.kind} {self.name}"


WHOLE_SHOP = Place()


@dataclass(frozen=True)
class Whereabouts:
    """The site and the pools of one machine."""

    site: str = ""
    pools: tuple[str, ...] = ()

    def lies_in(self, place: Place) -> bool:
        if place.kind is PlaceKind.SITE:
            return bool(place.name) and place.name == self.site
        return place.kind is PlaceKind.SHOP or place.name in self.pools


class GivenRole(StrEnum):
    """The roles that every shop has."""

    VIEWER = "viewer"
    OPERATOR = "operator"
    OFFICE = "office"
    TECHNICIAN = "technician"
    MANAGER = "manager"
    TENDER = "tender"


_OPERATOR = frozenset({Right.SEE, Right.OPERATE, Right.JUDGE, Right.QUEUE, Right.CHANGE_FILES})
GIVEN_ROLES: Mapping[str, frozenset[Right]] = {
    GivenRole.VIEWER: frozenset({Right.SEE}),
    GivenRole.OPERATOR: _OPERATOR,
    GivenRole.OFFICE: frozenset({Right.SEE, Right.QUEUE, Right.CHANGE_FILES, Right.SPEND}),
    GivenRole.TECHNICIAN: _OPERATOR | {Right.CHANGE_MODELS, Right.SEND_LINES, Right.OVERRULE, Right.SET_UP},
    GivenRole.MANAGER: frozenset(Right) - {Right.TENDER},
    GivenRole.TENDER: frozenset({Right.TENDER}),
}
"""The rights of the roles that are given; a shop makes more."""


@dataclass(frozen=True)
class Held:
    """All that somebody may do: by right, the places that they have it for."""

    places: Mapping[Right, frozenset[Place]]

    @classmethod
    def of(cls, roles: Iterable[tuple[Collection[Right], Place]]) -> Held:
        """What roles held for places come to."""
        found: dict[Right, set[Place]] = {}
        for rights, place in roles:
            for right in rights:
                found.setdefault(right, set()).add(place)
        return cls({right: frozenset(found[right]) for right in Right if right in found})

    @classmethod
    def by_role(cls, role: str, place: Place = WHOLE_SHOP) -> Held:
        """What a given role comes to."""
        return cls.of([(GIVEN_ROLES[role], place)])

    def may(self, right: Right, at: Whereabouts | None = None) -> bool:
        """Whether they may do something; without `at`, what is done at a machine may be done at one at least."""
        places = self.places.get(right, frozenset())
        reach = RIGHTS[right].reach
        if reach is Reach.SHOP:
            return WHOLE_SHOP in places
        if reach is Reach.ANYWHERE or at is None:
            return bool(places)
        return any(at.lies_in(place) for place in places)

    def everywhere(self, right: Right) -> bool:
        """Whether they have a right for the whole shop."""
        return WHOLE_SHOP in self.places.get(right, frozenset())

    def lacks(self, right: Right, at: Whereabouts | None = None) -> str:
        """Why they may not do something, in words."""
        places = self.places.get(right, frozenset())
        if not places:
            return f"That needs the right to {right.words}"
        had = " and ".join(sorted(place.words for place in places))
        where = "for the whole shop" if at is None else "here"
        return f"That needs the right to {right.words} {where}; you have it for {had}"

    def covers(self, rights: Collection[Right], place: Place) -> bool:
        """Whether they themselves have all these rights there, and so may give them. Who sets up the shop may have a
        tender speak for its machines."""
        return all(self._covers(right, place) for right in rights)

    def _covers(self, right: Right, place: Place) -> bool:
        if right is Right.TENDER:
            return self.everywhere(Right.SET_UP)
        places = self.places.get(right, frozenset())
        return WHOLE_SHOP in places or place in places

    def within(self, other: Held) -> Held:
        """What of this is also had by somebody else: a key may do no more than the person whose it is."""
        found: dict[Right, frozenset[Place]] = {}
        for right, places in self.places.items():
            theirs = other.places.get(right, frozenset())
            both = places if WHOLE_SHOP in theirs else theirs if WHOLE_SHOP in places else places & theirs
            if both:
                found[right] = both
        return Held(found)


NOTHING = Held({})
