import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

export const useJobWhy = (number: number, open: boolean) =>
  useQuery({
    enabled: open,
    queryKey: ["jobs", "why", number],
    queryFn: () => value(api.GET("/api/jobs/{number}/why", { params: { path: { number } } })),
  });

/** What each machine does next; renewed as things change, and every few seconds. */
export const usePlan = () =>
  useQuery({ queryKey: ["plan"], queryFn: () => value(api.GET("/api/plan")), refetchInterval: 5_000 });

export const usePlanning = () => useQuery({ queryKey: ["setup", "planning"], queryFn: () => value(api.GET("/api/planning")) });

export const useStrategies = () =>
  useQuery({ queryKey: ["strategies"], queryFn: () => value(api.GET("/api/planning/strategies")), staleTime: Infinity });

export const useHours = () => useQuery({ queryKey: ["setup", "hours"], queryFn: () => value(api.GET("/api/hours")) });
