"""Who may do what: people, roles and teams, invites, sign-in and keys."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, Field, field_validator, model_validator

from chronarch.core.access.rights import Place, PlaceKind, Reach, Right
from chronarch.wire.common import COMPOSED, Label, Time, Wire

LEAST_KEPT = 30
"""Days for which the audit is kept at least."""
MOST_ROLES, MOST_TEAMS, MOST_MEMBERS, MOST_PLACES = 50, 50, 500, 50
PLAIN = r"^[^\x00-\x1f\x7f/]*$"


def _in_order(given: list[Right]) -> list[Right]:
    return [right for right in Right if right in given]


RoleName = Annotated[str, Field(min_length=1, max_length=40, pattern=PLAIN, examples=["operator"]), COMPOSED]
TeamName = Annotated[str, Field(min_length=1, max_length=60, pattern=PLAIN, examples=["Evening shift"]), COMPOSED]
Login = Annotated[str, Field(max_length=120, examples=["maud"]), COMPOSED]
PersonName = Annotated[str, Field(max_length=120, examples=["Maud"]), COMPOSED]
Password = Annotated[str, Field(max_length=400, examples=["an example password"])]
Mail = Annotated[str, Field(max_length=254, pattern=r"^([^@\s]+@[^@\s]+)?$", examples=["maud@shop.example"]), COMPOSED]
Code = Annotated[str, Field(max_length=40, examples=["123456"])]
Credential = Annotated[str, Field(max_length=16_000)]
"""What the browser has made or shown of a passkey, as the text of its JSON (Web Authentication)."""
Rights = Annotated[list[Right], Field(min_length=1, max_length=len(Right)), AfterValidator(_in_order)]


# Rights, roles and teams ----------------------------------------------------------------------------------------------


class RightShown(Wire):
    """One thing that somebody may do, and how far it reaches."""

    right: Right
    reach: Reach
    words: str
    """What it is called after "may"."""
    text: str


class RoleRights(Wire):
    """What a role lets one do."""

    rights: Rights


class RoleShown(Wire):
    name: str
    rights: list[Right]
    given: bool
    """Whether every shop has it; what is given cannot be changed."""
    held_by: int = 0
    """How many people and teams hold it."""


class HeldRole(Wire):
    """A role and what it is held for: the shop, a site or a pool."""

    role: RoleName
    kind: PlaceKind = PlaceKind.SHOP
    place: Label = ""
    """The name of the site or pool; empty for the shop."""

    @model_validator(mode="after")
    def _named(self) -> HeldRole:
        if (self.kind is PlaceKind.SHOP) != (self.place == ""):
            raise ValueError("a role is held for the shop, or for a site or pool that is named")
        return self

    @property
    def at(self) -> Place:
        return Place(self.kind, self.place)


HeldRoles = Annotated[list[HeldRole], Field(max_length=MOST_ROLES)]
Teams = Annotated[list[TeamName], Field(max_length=MOST_TEAMS)]


class TeamSet(Wire):
    """What a team holds, and who is in it."""

    roles: HeldRoles = Field(default_factory=list)
    members: list[Login] = Field(default_factory=list, max_length=MOST_MEMBERS)
    """What they sign in with."""


class TeamShown(TeamSet):
    name: str


# People ---------------------------------------------------------------------------------------------------------------


class PersonShown(Wire):
    """Somebody who can sign in."""

    login: str
    name: str
    """What they are called; also their signature in the records."""
    mail: str = ""
    pictured_at: Time | None = None
    """When their picture was set; null without one."""
    roles: list[HeldRole] = Field(default_factory=list)
    """What they hold themselves."""
    teams: list[str] = Field(default_factory=list)
    rights: list[Right] = Field(default_factory=list)
    """All that they may do somewhere, by their roles and teams."""
    here_at: Time | None = None
    """When they last looked, shop time."""


class PersonRoles(Wire):
    """What a person holds themselves, and the teams they are in."""

    roles: HeldRoles = Field(default_factory=list)
    teams: Teams = Field(default_factory=list)


class NewInvite(PersonRoles):
    """`name`: who it is for; `again`: what somebody signs in with who is here already and wants a new password."""

    name: PersonName = ""
    mail: Mail = ""
    days: int = Field(default=7, ge=1, le=60)
    """How long the link holds."""
    again: Login = ""


class Invite(Wire):
    """A link by which somebody becomes a person of the shop, or gets a new password. Times are real."""

    id: int
    name: str
    mail: str
    roles: list[HeldRole]
    teams: list[str]
    made_by: str
    made_at: Time
    expires_at: Time
    again: bool = False
    """Whether it is for somebody who is here already."""


class CreatedInvite(Invite):
    path: str
    """Where the link leads, below the service's address. Shown this once; the service keeps only a hash."""


class Invited(Wire):
    """What somebody who follows an invite sees."""

    shop: str
    name: str
    login: str = ""
    """What they sign in with already; empty for somebody new."""
    mail: str = ""
    invited_by: str
    roles: list[HeldRole]
    teams: list[str]
    expires_at: Time


class JoinShop(Wire):
    """What somebody who follows an invite answers; who is here already says only a password."""

    token: str = Field(max_length=200)
    login: Login = ""
    name: PersonName = ""
    mail: Mail = ""
    password: Password


# Oneself --------------------------------------------------------------------------------------------------------------


class SignIn(Wire):
    login: Login
    password: Password
    code: Code = ""
    """For who has a second factor: the code that their app shows, or a recovery code."""
    trusted: bool = False
    """Whether this device is one's own, and stays signed in for long."""


class RightHeld(Wire):
    """A right, and what it is had for."""

    right: Right
    places: list[Place]


class Me(Wire):
    """Who is asking."""

    name: str
    login: str = ""
    """What a person signs in with; empty for a key."""
    mail: str = ""
    zone: str = ""
    theme: Literal["", "light", "dark"] = ""
    pictured_at: Time | None = None
    rights: list[RightHeld] = Field(default_factory=list)
    wants_second: list[str] = Field(default_factory=list)
    """One's roles that do not count now, because no second factor was shown."""
    csrf: str = ""
    """To be sent back as X-CSRF-Token with every change made with the session cookie."""


class MeChange(Wire):
    """What one changes of oneself; what is left out stays."""

    mail: Mail | None = None
    zone: str | None = Field(default=None, max_length=64, examples=["Europe/Berlin"])
    """The time zone in which one reads times; empty for that of the device."""
    theme: Literal["", "light", "dark"] | None = None


class NewPassword(Wire):
    old: Password
    new: Password


class SessionShown(Wire):
    """Where somebody is signed in. Times are real."""

    id: int
    place: str
    """The address that it was opened from."""
    device: str
    made_at: Time
    last_at: Time
    expires_at: Time
    trusted: bool
    this: bool = False
    """Whether it is the one that asks."""


class FirstStanding(Wire):
    """Whether a shop waits for its first person."""

    open: bool


class FirstPerson(Wire):
    """Who sets up a shop in which there is nobody yet. `code`: what the service's computer shows."""

    code: str = Field(max_length=40, examples=["K7QM-2D9F-H4XW"])
    login: Annotated[str, Field(min_length=1, max_length=120, examples=["maud"]), COMPOSED]
    name: PersonName = ""
    password: Password


# Second factors -------------------------------------------------------------------------------------------------------


class SecondFactorShown(Wire):
    """Something that one has, beside the password that one knows. Times are real."""

    id: int
    kind: Literal["app", "passkey"]
    name: str
    added_at: Time
    last_at: Time | None = None


class SecondFactorsShown(Wire):
    factors: list[SecondFactorShown]
    recovery_codes: int
    """How many are left."""
    wanted_by: list[str] = Field(default_factory=list)
    """One's roles that count only where a second factor was shown."""


class FactorName(Wire):
    name: Annotated[str, Field(min_length=1, max_length=60, examples=["my phone"]), COMPOSED]


class NewApp(Wire):
    """What an app shows codes from (TOTP, RFC 6238), to be confirmed by the first."""

    id: int
    secret: str
    """In base 32; shown this once."""
    uri: str
    """The same as an address that apps read (otpauth)."""
    qr_svg: str
    """The address as a QR code, SVG."""


class FactorCode(Wire):
    code: Code


class SecondFactorAdded(Wire):
    recovery_codes: list[str]
    """Each stands for a second factor once; shown this once. None where one had some already."""


class PasskeyOptions(Wire):
    """What the browser's `navigator.credentials` takes, as JSON (Web Authentication)."""

    options: dict[str, Any]


class NewPasskey(FactorName):
    """`credential`: what the browser has made, as the text of its JSON."""

    credential: Credential


class PasskeySignIn(Wire):
    """`credential`: what the browser has shown, as the text of its JSON."""

    credential: Credential
    trusted: bool = False


class ClientData(BaseModel):
    """What a browser says of a passkey's use; we read of it only which challenge it answers."""

    challenge: str = Field(max_length=200)


class Shown(Wire):
    """Who one is: the password, and a code where one has a second factor; or a passkey as the browser has shown it."""

    password: Password = ""
    code: Code = ""
    credential: Credential = ""


class GuardedRoles(Wire):
    """Roles that count only where a second factor was shown."""

    roles: list[RoleName] = Field(max_length=200)


# Keys -----------------------------------------------------------------------------------------------------------------


class NewKey(Wire):
    """A key is one's own, and may then do no more than oneself; or the shop's. It may do what is said by `rights`, or
    by the role, for these places."""

    name: str = Field(min_length=1, max_length=80, examples=["evening script"])
    own: bool = False
    role: RoleName | None = None
    rights: Rights | None = None
    places: list[HeldPlace] = Field(default_factory=list, max_length=MOST_PLACES)
    """None for the whole shop."""
    days: int | None = Field(default=None, ge=1, le=3650)
    """How long it holds; null until it is revoked."""


class HeldPlace(Wire):
    """A site or a pool."""

    kind: Literal[PlaceKind.SITE, PlaceKind.POOL]
    name: Annotated[str, Field(min_length=1, max_length=60), COMPOSED]

    @property
    def at(self) -> Place:
        return Place(self.kind, self.name)


class KeyChange(Wire):
    """How a key's secret is changed: the old one opens for some hours more."""

    overlap_hours: float = Field(default=24, ge=0, le=24 * 90)


class Key(Wire):
    id: int
    name: str
    owner: str = ""
    """The name of the person whose it is; empty for one of the shop's own."""
    rights: list[Right]
    places: list[Place] = Field(default_factory=list)
    created_at: Time
    expires_at: Time | None = None
    last_at: Time | None = None
    """When it was last used, to the minute; null where it never was."""
    old_until: Time | None = None
    """Until when the secret before the last change still opens; null where none does."""
    revoked: bool
    tender: str = ""
    """For the key of a tender: the tender that it is bound to since its first greeting."""


class CreatedKey(Key):
    secret: str
    """Shown this once; the service keeps only its hash."""


NewKey.model_rebuild()


# The audit ------------------------------------------------------------------------------------------------------------


class AuditedRow(Wire):
    """A row of the records that was changed: its values before and after. A new one has none before, one that is gone
    none after."""

    row: str
    """The table and the row's name or number."""
    before: dict[str, Any]
    after: dict[str, Any]


class AuditEntry(Wire):
    """Who did what to what, from where, when, and what it was before."""

    number: int | None
    """Its place in the chain; null for the second until it is sealed."""
    at: Time
    who: str
    """An identity: `person 3`, `key 7`, `helper 2`, `the plan`, `the watch`; empty for somebody who was not known."""
    name: str
    """What whoever it was is called now."""
    act: str
    """What was asked of the service, as `METHOD /path`; or what a part of the service did."""
    text: str
    """What that is, in words."""
    subject: str
    asked: str = ""
    """What was asked for, where no row says it."""
    refused: int
    """The HTTP status with which it was refused; 0 where it was done."""
    address: str
    device: str
    rows: list[AuditedRow]
    more: int = 0
    """Rows that are not told."""
    taken_out: bool = False
    """Whether something was taken out because it told of a person who has left."""


class AuditProof(Wire):
    """Whether the audit's chain holds. Note the last number and seal down: a later check can be asked whether that
    entry is still there."""

    first: int
    last: int
    seal: str
    entries: int
    taken_out: int
    waiting: int
    """Entries that are not sealed yet."""
    found: int
    faults: list[str]


class AuditAsked(Wire):
    """What a check is to find: an entry with the seal that it had."""

    number: Annotated[int, Field(ge=1, le=2**62)] | None = None
    seal: Annotated[str, Field(max_length=64, pattern=r"^[0-9a-f]*$")] = ""


class AuditSettings(Wire):
    """How long entries are kept, days; 0: for ever. Nobody has what was done this month forgotten."""

    kept_days: Annotated[int, Field(ge=0, le=36_500)] = 1096

    @field_validator("kept_days")
    @classmethod
    def _long_enough(cls, days: int) -> int:
        if 0 < days < LEAST_KEPT:
            raise ValueError(f"The audit is kept for {LEAST_KEPT} days at least, or for ever (0).")
        return days
