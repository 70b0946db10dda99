import { useQuery, useQueryClient } from "@tanstack/react-query";

import { api, setCsrf, value } from "../../api/client";

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
