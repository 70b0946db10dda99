import { keepPreviousData, useQuery } from "@tanstack/react-query";

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

/** The readings of a machine between two times; they do not change any more. */
export const useHeatBetween = (machine: string, begin: string | undefined, end: string | undefined) =>
  useQuery({
    enabled: begin !== undefined && end !== undefined,
    queryKey: ["heat", machine, begin, end],
    queryFn: () => value(api.GET("/api/machines/{name}/heat", { params: { path: { name: machine }, query: { begin, end } } })),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });

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
