import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { api, setCsrf, value } from "./client";
import { useLive } from "./live";

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

/** All machines; kept fresh by the live stream. */
export const useMachines = () =>
  useQuery({ queryKey: ["machines"], queryFn: () => value(api.GET("/api/machines")), staleTime: Infinity });

export const useShop = () =>
  useQuery({ queryKey: ["shop"], queryFn: () => value(api.GET("/api/shop")), staleTime: Infinity });

export const useMachine = (name: string) =>
  useQuery({
    queryKey: ["machine", name],
    queryFn: () => value(api.GET("/api/machines/{name}", { params: { path: { name } } })),
  });

export const useJobs = (ended: boolean) =>
  useQuery({
    queryKey: ["jobs", ended],
    queryFn: () => value(api.GET("/api/jobs", { params: { query: { ended } } })),
    refetchInterval: 10_000,
  });

export const useFiles = () => useQuery({ queryKey: ["files"], queryFn: () => value(api.GET("/api/files")) });

export const useBuilds = (machine: string) =>
  useQuery({
    queryKey: ["builds", machine],
    queryFn: () => value(api.GET("/api/builds", { params: { query: { machine, limit: 12 } } })),
  });

export const useNotices = () =>
  useQuery({ queryKey: ["notices"], queryFn: () => value(api.GET("/api/notices", { params: { query: {} } })) });

/** The ledger of the last `hours` of shop time, all machines' or one's. */
export function useLedger(hours: number, machine?: string) {
  const { now, heard } = useLive();
  return useQuery({
    enabled: heard,
    queryKey: ["ledger", hours, machine],
    queryFn: () => {
      const begin = new Date(now().getTime() - hours * 3600_000).toISOString();
      return value(api.GET("/api/ledger", { params: { query: { begin, machine } } }));
    },
  });
}

export function useHeat(machine: string, hours: number) {
  const { now, heard } = useLive();
  return useQuery({
    enabled: heard,
    queryKey: ["heat", machine, hours],
    queryFn: () => {
      const begin = new Date(now().getTime() - hours * 3600_000).toISOString();
      return value(api.GET("/api/machines/{name}/heat", { params: { path: { name: machine }, query: { begin } } }));
    },
    refetchInterval: 4_000,
  });
}

export const useUtilisation = (from: string, to: string) =>
  useQuery({
    queryKey: ["utilisation", from, to],
    queryFn: () => value(api.GET("/api/report/utilisation", { params: { query: { from, to } } })),
    placeholderData: (before) => before,
  });

/** A change: runs `change`, then has these kinds of records read again. */
export function useChange<A>(change: (argument: A) => Promise<unknown>, ...touches: string[]) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSettled: () => Promise.all(touches.map((kind) => client.invalidateQueries({ queryKey: [kind] }))),
  });
}
