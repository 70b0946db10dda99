"""What people and keys may do, as the records have it."""

from __future__ import annotations

from collections.abc import Iterable

from sqlalchemy import or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import GIVEN_ROLES, Held, Place, PlaceKind, Right
from chronarch.records.access.tables import GuardedRole, Key, Role, RoleHeld, TeamMember


def read_rights(names: Iterable[str]) -> frozenset[Right]:
    """Rights as they are kept; one that is not known any more is none."""
    return frozenset(right for right in Right if right.value in set(names))


async def rights_by_role(db: AsyncSession) -> dict[str, frozenset[Right]]:
    """The rights of all roles, given and made."""
    made = {row.name: read_rights(row.rights) for row in (await db.execute(select(Role))).scalars()}
    return {**made, **GIVEN_ROLES}


async def guarded_roles(db: AsyncSession) -> set[str]:
    """The roles that count only where a second factor was shown."""
    return set((await db.execute(select(GuardedRole.role))).scalars())


async def held_by(db: AsyncSession, person: int, second: bool = True) -> Held:
    """What a person may do, by themselves and by their teams; without a second factor, less."""
    teams = select(TeamMember.team_id).where(TeamMember.person_id == person)
    query = select(RoleHeld).where(or_(RoleHeld.person_id == person, RoleHeld.team_id.in_(teams)))
    rows = (await db.execute(query)).scalars().all()
    roles = await rights_by_role(db)
    if not second:
        wanting = await guarded_roles(db)
        rows = [row for row in rows if row.role not in wanting]
    return Held.of((roles.get(row.role, frozenset()), Place(PlaceKind(row.place_kind), row.place)) for row in rows)


async def held_by_key(db: AsyncSession, key: Key) -> Held:
    """What a key may do: no more than the person whose it is."""
    rights = read_rights(key.rights)
    own = Held.of((rights, Place(PlaceKind(kind), name)) for kind, name in key.places)
    return own if key.person_id is None else own.within(await held_by(db, key.person_id))


async def roles_held(db: AsyncSession, person: int) -> set[str]:
    """The names of the roles that a person holds, by themselves and by their teams."""
    teams = select(TeamMember.team_id).where(TeamMember.person_id == person)
    query = select(RoleHeld.role).where(or_(RoleHeld.person_id == person, RoleHeld.team_id.in_(teams)))
    return set((await db.execute(query)).scalars())


async def holders_for_shop(db: AsyncSession, right: Right) -> set[int]:
    """The people who have a right for the whole shop."""
    giving = [name for name, rights in (await rights_by_role(db)).items() if right in rights]
    wide = (RoleHeld.place_kind == PlaceKind.SHOP, RoleHeld.role.in_(giving))
    own = select(RoleHeld.person_id).where(*wide, RoleHeld.person_id.is_not(None))
    by_team = select(TeamMember.person_id).join(RoleHeld, RoleHeld.team_id == TeamMember.team_id).where(*wide)
    return {*(await db.execute(own)).scalars(), *(await db.execute(by_team)).scalars()} - {None}
