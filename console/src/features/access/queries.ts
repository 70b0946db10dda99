import { useQuery } from "@tanstack/react-query";

import { api, setCsrf, value } from "../../api/client";

/** Who is signed in; fails with status 401 when nobody is. */
export function useMe() {
  return useQuery({
    queryKey: ["me"],
    queryFn: async () => {
      const me = await value(api.GET("/api/me"));
      setCsrf(me.csrf ?? "");
      return me;
    },
    retry: false,
    staleTime: Infinity,
  });
}

/** Who can sign in; for who maintains. */
export const usePeople = () => useQuery({ queryKey: ["people"], queryFn: () => value(api.GET("/api/people")) });

/** Whether the shop waits for its first person. */
export const useFirstStanding = () =>
  useQuery({ queryKey: ["first-person"], queryFn: () => value(api.GET("/api/first-person")), retry: false, staleTime: Infinity });
