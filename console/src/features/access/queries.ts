import { useQuery, useQueryClient } from "@tanstack/react-query";

import { api, setCsrf, value } from "../../api/client";
import { useRows } from "../../api/pages";
import type { components } from "../../api/schema";

/** Who can sign in, and what they hold; for who manages people. */
export const usePeople = (enabled = true) => useQuery({ queryKey: ["people"], queryFn: () => value(api.GET("/api/people")), enabled });

/** The invites that still let somebody in. */
export const useInvites = () => useQuery({ queryKey: ["people", "invites"], queryFn: () => value(api.GET("/api/invites")) });

/** All that somebody may be let do. */
export const useRights = () => useQuery({ queryKey: ["rights"], queryFn: () => value(api.GET("/api/rights")), staleTime: Infinity });

/** The roles that are given, and those that the shop has made. */
export const useRoles = () => useQuery({ queryKey: ["people", "roles"], queryFn: () => value(api.GET("/api/roles")) });

export const useTeams = () => useQuery({ queryKey: ["people", "teams"], queryFn: () => value(api.GET("/api/teams")) });

/** One's own keys; all of them for who manages people. */
export const useKeys = () => useQuery({ queryKey: ["people", "keys"], queryFn: () => value(api.GET("/api/keys")) });

/** One's second factors, and which of one's roles want one. */
export const useSecondFactors = () => useQuery({ queryKey: ["people", "second-factors"], queryFn: () => value(api.GET("/api/me/second-factors")) });

/** The roles that count only where a second factor was shown. */
export const useGuardedRoles = () => useQuery({ queryKey: ["people", "guarded-roles"], queryFn: () => value(api.GET("/api/guarded-roles")) });

/** Where one is signed in. */
export const useSessions = () => useQuery({ queryKey: ["people", "sessions"], queryFn: () => value(api.GET("/api/me/sessions")) });

export type AuditEntry = components["schemas"]["AuditEntry"];
type Audited = { who?: string; text?: string; refused?: boolean };

/** Who did what, the newest first; `span` names how far back, `since` is that as a time. */
export const useAudit = (asked: Audited, span: string, since: string | undefined) =>
  useRows(["audit", asked, span], (after) => api.GET("/api/audit", { params: { query: { ...asked, since, after } } }), 15_000);

export const useAuditSettings = () => useQuery({ queryKey: ["audit", "settings"], queryFn: () => value(api.GET("/api/audit-settings")) });

/** Signs out, and forgets all that was read. */
export function useSignOut() {
  const client = useQueryClient();
  return async () => {
    await value(api.POST("/api/sign-out"));
    setCsrf("");
    await client.resetQueries({ queryKey: ["me"] });
    client.removeQueries({ predicate: (query) => query.queryKey[0] !== "me" });
  };
}

/** Whether the shop waits for its first person. */
export const useFirstStanding = () =>
  useQuery({ queryKey: ["first-person"], queryFn: () => value(api.GET("/api/first-person")), retry: false, staleTime: Infinity });
