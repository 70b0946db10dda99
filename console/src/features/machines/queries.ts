import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";
import { useLive } from "../../api/live";

/** All machines; kept fresh by the live stream. */
export const useMachines = () =>
  useQuery({ queryKey: ["machines"], queryFn: () => value(api.GET("/api/machines")), staleTime: Infinity });

export const useMachine = (name: string) =>
  useQuery({
    queryKey: ["machine", name],
    queryFn: () => value(api.GET("/api/machines/{name}", { params: { path: { name } } })),
  });

export const useSpools = () => useQuery({ queryKey: ["setup", "spools"], queryFn: () => value(api.GET("/api/spools")) });

export const useModels = () =>
  useQuery({ queryKey: ["models"], queryFn: () => value(api.GET("/api/models")), staleTime: 60_000 });

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
