"""Giving rights: nobody gives, or takes away, what they do not have themselves."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import Place, Right
from chronarch.records import tables as t
from chronarch.records.access.holding import holders_for_shop, rights_by_role
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.wire.access import HeldRole


def check_rights(who: Principal, rights: Collection[Right], place: Place) -> None:
    """Raises ApiProblem (403) where somebody lacks one of the rights that they would give there."""
    if not who.held.covers(rights, place):
        lacks = [right.words for right in Right if right in rights and not who.held.covers([right], place)]
        what = f"the right to {' and '.join(lacks)} for {place.words}"
        raise ApiProblem(403, f"That gives {what}, which you do not have. Ask somebody who has it.")


async def check_roles(
    db: AsyncSession, who: Principal, roles: Iterable[HeldRole], before: Iterable[HeldRole] = ()
) -> None:
    """Whether somebody may have others hold these roles where they held those before. Raises ApiProblem (403, 404)."""
    known, now, then = await rights_by_role(db), set(map(_key, roles)), set(map(_key, before))
    for role, place in now ^ then:
        if role not in known and (role, place) in now:
            raise ApiProblem(404, f"There is no role {role!r}; `chronarch roles list` shows all.")
        check_rights(who, known.get(role, ()), place)


def _key(one: HeldRole) -> tuple[str, Place]:
    return one.role, one.at


async def find_teams(db: AsyncSession, names: Sequence[str]) -> list[t.Team]:
    """Raises ApiProblem (404)."""
    rows = (await db.execute(select(t.Team).where(t.Team.name.in_(names)))).scalars().all()
    missing = set(names) - {row.name for row in rows}
    if missing:
        raise ApiProblem(404, f"There is no team {sorted(missing)[0]!r}; `chronarch teams list` shows all.")
    return list(rows)


async def roles_of(db: AsyncSession, holder: t.Person | t.Team) -> list[HeldRole]:
    """What a person or a team holds themselves."""
    column = t.RoleHeld.person_id if isinstance(holder, t.Person) else t.RoleHeld.team_id
    rows = (await db.execute(select(t.RoleHeld).where(column == holder.id).order_by(t.RoleHeld.id))).scalars()
    return [role_view(row) for row in rows]


def role_view(row: t.RoleHeld) -> HeldRole:
    return HeldRole.model_validate({"role": row.role, "kind": row.place_kind, "place": row.place})


async def check_somebody_manages(db: AsyncSession, but: t.Person | None = None) -> None:
    """After a change that is not committed yet: whether somebody can still manage people. Raises ApiProblem (409)."""
    await db.flush()
    left = await holders_for_shop(db, Right.MANAGE_PEOPLE) - {but.id if but else 0}
    if not left:
        name = but.name if but else "That"
        raise ApiProblem(409, f"{name} is the last who may manage people; let somebody else do that first.")
