"""Calls about oneself, people, roles and keys."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from chronarch.client.call import Call, at, some
from chronarch.core.access.rights import Place, PlaceKind, Right
from chronarch.wire import access as wp
from chronarch.wire.common import RequestDone

# Oneself --------------------------------------------------------------------------------------------------------------


def me() -> Call[wp.Me]:
    return Call("GET", "/api/me", wp.Me)


def change_me(change: wp.MeChange) -> Call[wp.Me]:
    """Change one's mail address, time zone or theme."""
    return Call("PATCH", "/api/me", wp.Me, body=change)


def first_standing() -> Call[wp.FirstStanding]:
    """Whether the shop waits for its first person; needs no key."""
    return Call("GET", "/api/first-person", wp.FirstStanding)


def first_person(code: str, login: str, name: str, password: str) -> Call[wp.Me]:
    """Let the first person in, with the code that the service's computer shows; needs no key."""
    asked = wp.FirstPerson(code=code, login=login, name=name, password=password)
    return Call("POST", "/api/first-person", wp.Me, body=asked)


# People ---------------------------------------------------------------------------------------------------------------


def people() -> Call[list[wp.PersonShown]]:
    """Everybody who can sign in, and what they may do."""
    return Call("GET", "/api/people", list[wp.PersonShown])


def set_person_roles(login: str, roles: wp.PersonRoles) -> Call[wp.PersonShown]:
    """Say which roles a person holds and which teams they are in; what is not named they lose."""
    return Call("PUT", at("people", login, "roles"), wp.PersonShown, body=roles)


def person_sessions(login: str) -> Call[list[wp.SessionShown]]:
    """Where a person is signed in."""
    return Call("GET", at("people", login, "sessions"), list[wp.SessionShown])


def sign_person_out(login: str) -> Call[RequestDone]:
    """Sign a person out everywhere."""
    return Call("DELETE", at("people", login, "sessions"), RequestDone)


def all_of_person(login: str) -> Call[bytes]:
    """All that is kept of a person, as JSON Lines."""
    return Call("GET", at("people", login, "export"), bytes)


def remove_person(login: str) -> Call[RequestDone]:
    """Remove a person; what they did stays, signed by somebody who left."""
    return Call("DELETE", at("people", login), RequestDone)


def invites() -> Call[list[wp.Invite]]:
    """The invites that still let somebody in."""
    return Call("GET", "/api/invites", list[wp.Invite])


def invite(asked: wp.NewInvite) -> Call[wp.CreatedInvite]:
    """Invite somebody, or have somebody who is here choose a new password; the link is in the answer alone."""
    return Call("POST", "/api/invites", wp.CreatedInvite, body=asked)


def take_invite_back(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/invites/{number}", RequestDone)


def join_shop(asked: wp.JoinShop) -> Call[wp.Me]:
    """Follow an invite; needs no key."""
    return Call("POST", "/api/invited", wp.Me, body=asked)


# Roles and teams ------------------------------------------------------------------------------------------------------


def rights() -> Call[list[wp.RightShown]]:
    """All that somebody may be let do."""
    return Call("GET", "/api/rights", list[wp.RightShown])


def roles() -> Call[list[wp.RoleShown]]:
    return Call("GET", "/api/roles", list[wp.RoleShown])


def set_role(name: str, rights: Sequence[Right]) -> Call[wp.RoleShown]:
    """Make a role, or say anew what it lets one do."""
    return Call("PUT", at("roles", name), wp.RoleShown, body=wp.RoleRights(rights=list(rights)))


def remove_role(name: str) -> Call[RequestDone]:
    """Remove a role that nobody holds."""
    return Call("DELETE", at("roles", name), RequestDone)


def teams() -> Call[list[wp.TeamShown]]:
    return Call("GET", "/api/teams", list[wp.TeamShown])


def set_team(name: str, team: wp.TeamSet) -> Call[wp.TeamShown]:
    """Make a team, or say anew what it holds and who is in it."""
    return Call("PUT", at("teams", name), wp.TeamShown, body=team)


def remove_team(name: str) -> Call[RequestDone]:
    return Call("DELETE", at("teams", name), RequestDone)


def guarded_roles() -> Call[wp.GuardedRoles]:
    """The roles that count only where a second factor was shown."""
    return Call("GET", "/api/guarded-roles", wp.GuardedRoles)


def guard_roles(roles: Sequence[str]) -> Call[wp.GuardedRoles]:
    """Say which roles count only where a second factor was shown."""
    return Call("PUT", "/api/guarded-roles", wp.GuardedRoles, body=wp.GuardedRoles(roles=list(roles)))


def forget_second_factors(login: str) -> Call[RequestDone]:
    """Somebody has lost their second factors: they sign in without, and add others."""
    return Call("DELETE", at("people", login, "second-factors"), RequestDone)


# Keys -----------------------------------------------------------------------------------------------------------------


def keys() -> Call[list[wp.Key]]:
    return Call("GET", "/api/keys", list[wp.Key])


def make_key(
    name: str,
    role: str | None = None,
    rights: Sequence[Right] | None = None,
    places: Sequence[Place] = (),
    days: int | None = None,
) -> Call[wp.CreatedKey]:
    """Make a key of the shop that may do what a role may, or these rights; without places for the whole shop."""
    held = [wp.HeldPlace.model_validate({"kind": p.kind, "name": p.name}) for p in places if p.kind != PlaceKind.SHOP]
    given = list(rights) if rights is not None else None
    return Call(
        "POST", "/api/keys", wp.CreatedKey,
        body=wp.NewKey(name=name, role=role, rights=given, places=held, days=days),
    )  # fmt: skip


def change_key(key: int, overlap_hours: float = 24) -> Call[wp.CreatedKey]:
    """Give a key another secret; the one before opens for some hours more."""
    return Call("POST", f"/api/keys/{key}/change", wp.CreatedKey, body=wp.KeyChange(overlap_hours=overlap_hours))


def revoke_key(key: int) -> Call[wp.Key]:
    return Call("DELETE", f"/api/keys/{key}", wp.Key)


# The audit ------------------------------------------------------------------------------------------------------------


def audit(
    who: str = "", text: str = "", *, since: datetime | None = None, until: datetime | None = None,
    refused: bool = False,
) -> Call[list[wp.AuditEntry]]:  # fmt: skip
    """Who did what, the newest first; `who` is a login or an identity such as `key 7`."""
    return Call("GET", "/api/audit", list[wp.AuditEntry], params=_audited(who, text, since, until, refused))


def audit_csv(
    who: str = "", text: str = "", *, since: datetime | None = None, until: datetime | None = None,
    refused: bool = False,
) -> Call[bytes]:  # fmt: skip
    """The same as CSV (RFC 4180), the oldest first."""
    return Call("GET", "/api/audit.csv", bytes, params=_audited(who, text, since, until, refused))


def _audited(
    who: str, text: str, since: datetime | None, until: datetime | None, refused: bool
) -> dict[str, Any]:  # fmt: skip
    return some(who=who or None, text=text or None, since=since, until=until, refused=refused or None)


def verify_audit(number: int | None = None, seal: str = "") -> Call[wp.AuditProof]:
    """Look whether an entry is missing or was changed, and whether the one with a number still has its seal."""
    return Call("POST", "/api/audit/verify", wp.AuditProof, body=wp.AuditAsked(number=number, seal=seal))


def audit_settings() -> Call[wp.AuditSettings]:
    return Call("GET", "/api/audit-settings", wp.AuditSettings)


def change_audit_settings(settings: wp.AuditSettings) -> Call[wp.AuditSettings]:
    """Say how long entries are kept. What is older goes at once."""
    return Call("PUT", "/api/audit-settings", wp.AuditSettings, body=settings)
