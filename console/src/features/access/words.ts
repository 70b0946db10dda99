import type { HeldRole } from "../../api/client";

/** What a role is held for, in words. */
export const placeWords = (place: { kind?: string; place?: string; name?: string }) =>
  !place.kind || place.kind === "shop" ? "the whole shop" : `the ${place.kind} ${place.place ?? place.name}`;

/** For example `technician, operator for the site Harbour`. */
export const roleWords = (roles: HeldRole[]) =>
  roles.map((r) => (!r.kind || r.kind === "shop" ? r.role : `${r.role} for ${placeWords(r)}`)).join(", ");
