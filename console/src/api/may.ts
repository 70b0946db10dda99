import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";

import { api, type Machine, type Me, type Right, setCsrf, value } from "./client";

/** Who is signed in; fails with status 401 when nobody is. */
export function useMe(enabled = true) {
  return useQuery({
    queryKey: ["me"],
    queryFn: async () => {
      const me = await value(api.GET("/api/me"));
      setCsrf(me.csrf ?? "");
      return me;
    },
    retry: false,
    staleTime: Infinity,
    enabled,
  });
}

/** Where something is done: a machine, or its name. */
export type At = string | { site?: string; pools?: string[] };

/** What each right is called after "may", and whether it counts at the machine, for the whole shop, or held for any place. */
const RIGHTS: Record<Right, [words: string, reach: "anywhere" | "machine" | "shop"]> = {
  see: ["look", "anywhere"],
  operate: ["operate machines", "machine"],
  judge: ["judge parts", "machine"],
  queue: ["change the queue", "anywhere"],
  change_files: ["change files", "anywhere"],
  change_models: ["change models", "shop"],
  send_lines: ["send lines", "machine"],
  overrule: ["overrule preflight", "shop"],
  spend: ["set prices", "shop"],
  set_up: ["set up the shop", "shop"],
  manage_people: ["manage people", "shop"],
  tender: ["speak as a tender", "shop"],
};

/** Why somebody may not do something, in words; null where they may. The service decides the same way. */
function whyNot(me: Me | undefined, right: Right, at?: { site?: string; pools?: string[] }): string | null {
  if (!me) return null; // a page without anybody signed in; the service decides
  const places = me.rights?.find((one) => one.right === right)?.places ?? [];
  const [words, reach] = RIGHTS[right];
  if (places.some((p) => p.kind === "shop")) return null;
  if (reach === "anywhere" || (reach === "machine" && !at)) {
    if (places.length) return null;
  } else if (reach === "machine" && at) {
    if (places.some((p) => (p.kind === "site" ? p.name === at.site : at.pools?.includes(p.name ?? "")))) return null;
  }
  const had = places.map((p) => `the ${p.kind} ${p.name}`).join(" and ");
  if (!had) return `This needs the right to ${words}.`;
  return `This needs the right to ${words} ${reach === "shop" ? "for the whole shop" : "here"}; you have it for ${had}.`;
}

/** Asks whether oneself may do something: null, or why not. */
export function useMay(): (right: Right, at?: At) => string | null {
  const client = useQueryClient();
  const me = useMe(client.getQueryData(["me"]) !== undefined).data;
  return useCallback(
    (right, at) => {
      const machines = () => client.getQueryData<Machine[]>(["machines"]);
      return whyNot(me, right, typeof at === "string" ? machines()?.find((m) => m.name === at) : at);
    },
    [client, me],
  );
}
